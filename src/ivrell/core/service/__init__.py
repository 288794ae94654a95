"""A stand-in for a remote compute service, and the client that calls it."""
