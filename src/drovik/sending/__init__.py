"""plan (what has no answer yet) → write (request) → courier (HTTP, retries) → unpack (reply)."""
