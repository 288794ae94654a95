"""Walls round what strangers wrote: what it sees, reaches, and is told."""
