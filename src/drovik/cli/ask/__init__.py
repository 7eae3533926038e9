"""`drovik ask` and `drovik talk`: questions by hand, and what is kept of them as a project."""
