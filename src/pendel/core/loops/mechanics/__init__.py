"""Natural frequencies of what swings, and what calms it."""
