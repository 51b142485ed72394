"""Gains: by rules, by search for a goal, within limits, over tolerances."""
