"""The machine under examination: a value that every check reads, never the host directly."""
