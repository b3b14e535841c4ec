"""Kinds of change: each a module, with its step, its record, and all that is done with them."""
