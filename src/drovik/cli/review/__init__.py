"""`drovik review`: people judge answers, in the terminal or on a page."""
