"""Bytes to facts, one module a file format. Knows no machine and opens no path."""
