"""Sizes of requests, token rates, estimates and bounds of money and time."""
