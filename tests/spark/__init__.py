"""Tests of the optional part, on a real Spark: ``./test spark``."""
