"""What is asked of loops from outside, all at once."""
