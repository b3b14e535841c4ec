"""The commands: each parses, calls the core once, and hands the result to a renderer."""
