"""Pictures, documents and clips → frames, one module for each kind of file."""
