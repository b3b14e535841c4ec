"""Archive a folder as it is now, and check the copy later."""
