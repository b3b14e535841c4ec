"""Pictures, charts and pages, and a trace as a file for other tools."""
