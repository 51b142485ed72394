"""Loops of a drive: how they are found, judged and tuned. Five rooms, each of which knows only those below it:

- ``judging``: what a page or a terminal asks, all at once
- ``tuning``: gains by rules and by search, within limits and tolerances; ``mechanics``: what swings, and what calms it
- ``regulators``: which loops there are, where they are judged, and what runs measure of them
- ``models``: linear models of a drive at a point, ways between two signals, margins, sweeps
"""
