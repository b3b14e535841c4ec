"""The commands for sources, copies, cases and requests."""
