"""Who can vouch for a file's bytes."""
