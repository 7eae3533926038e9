"""`drovik endpoint`: learning a service, trying it, listing its models."""
