"""The rows of a kept run, its traces and measures, and the process that works them out."""
