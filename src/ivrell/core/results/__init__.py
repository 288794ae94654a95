"""The result folder of a trial: what is kept of it, and where."""
