"""The runner: a small process, of the standard library, that starts workers, measures, reaps."""
