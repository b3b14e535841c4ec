"""The worked example: the made-up harbour office of Marram Sound, and what is wrong there."""
