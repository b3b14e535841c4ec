"""What did a folder hold at that moment, and is the copy of it still whole?"""
