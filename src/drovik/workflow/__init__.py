"""What the commands and Python users call."""
