"""What is read off a run later."""
