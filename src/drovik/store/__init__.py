"""Attempts, replies, and the answers read from them, in one SQLite file."""
