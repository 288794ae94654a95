"""Apache Spark: where it runs, sessions, what it tells of itself, data made in it, answers left.

Optional: without pyspark its engine shows as not installed, and nothing else changes.
"""
