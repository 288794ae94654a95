"""The worker: the process that an approach runs in, and its code alone knows."""
