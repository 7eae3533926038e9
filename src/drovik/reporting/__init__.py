"""The page and its figures."""
