"""A service's requests and replies, by its dialect: templates, requests, reply paths, streams."""
