"""One module per command: the only place that reads argv, prints or draws in the terminal."""
