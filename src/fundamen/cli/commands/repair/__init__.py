"""The commands that change a machine, and those that undo it."""
