"""Learning a service from its own sample, and trying it step by step."""
