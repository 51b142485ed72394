"""Figures taken from runs: what they are (`declare`), and one file for each."""

from pendel.core.measures.declare import Measure, Place, Span
from pendel.core.measures.table import MEASURES, measures_at

__all__ = ["MEASURES", "Measure", "Place", "Span", "measures_at"]
