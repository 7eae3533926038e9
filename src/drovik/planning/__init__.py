"""What is to be asked: conversations, chains, repeats, samples; the identity of each request; the answers so far."""
