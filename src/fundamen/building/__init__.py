"""What a compile or link step needs, and which of that the real search does not find."""
