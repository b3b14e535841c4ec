"""The records that all rooms share: frozen, typed, knowing no machine and no file format."""
