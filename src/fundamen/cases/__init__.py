"""What was the matter, what was tried, what helped, and who must do what next?"""
