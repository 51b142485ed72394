"""Where heat goes: bodies that store it, ways that it takes, and what is around."""
