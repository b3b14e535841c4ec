"""Mach-O files, what dyld reads beside them, and property lists."""
