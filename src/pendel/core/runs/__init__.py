"""Runs of a drive. Five rooms, each of which knows only those below it:

- ``found``: what is read off a run later: flows, spectra, modes, figures of a trip
- ``preparing``: from a drive to a run
- ``remarks``: what a run says of itself when it has ended, and its energy
- ``record``: the rows of a kept run, its traces and measures, and the process that works them out
- ``confined``: processes that may run code of a drive
"""
