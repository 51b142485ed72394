"""Heun's method with Euler's inside it."""

from pathlib import Path

from pendel.core.plant.methods import RunMethod

METHOD = RunMethod("heun", "Heun, order 2", source=Path(__file__).with_name("heun.c"), table="HEUN")
