"""What does this message say, which line of this log is the first cause, and what is behind it on this machine?"""
