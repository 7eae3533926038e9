"""A picture on disk → the bytes a model gets."""
