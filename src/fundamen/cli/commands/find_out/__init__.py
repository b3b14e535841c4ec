"""The commands that start from a symptom."""
