"""The commands: each parses, calls the core once, and hands the result to a renderer."""

from fundamen.cli.main import main

__all__ = ["main"]
