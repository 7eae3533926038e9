"""The simulated service, run and met over HTTP as any other."""
