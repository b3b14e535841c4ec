"""Carry steps out, go on with them, take them back: the journal, locks, and what is kept."""
