"""Whole drives from a goal: one file a goal. Each asks what a data sheet gives, and builds a wired drive of the
catalogue's parts and blocks, whose controller values are expressions of what was entered."""
