"""The commands that look at one thing."""
