"""A dialect out of a service's own sample request and reply."""
