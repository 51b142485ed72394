"""What a run says of itself when it has ended, and its energy."""
