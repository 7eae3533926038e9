"""The demo project, as package data."""
