"""Settings files: one value is read or changed, and all other bytes stay the same."""
