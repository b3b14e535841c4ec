"""Explain a message or a log: the first cause, and its background on this machine."""
