"""Wires that need no thinking: what goes with what, as the goals and examples that come along are wired."""
