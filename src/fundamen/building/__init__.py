"""Find the needs of a compile or link step that the real search does not meet."""
