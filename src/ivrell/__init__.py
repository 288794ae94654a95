"""Ivrell: compare alternative approaches to the same data task."""

__version__ = "0.1.0"
