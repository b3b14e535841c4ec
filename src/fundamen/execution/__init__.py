"""Perform steps, resume them, undo them: the journal, locks, and what is kept."""
