"""A recipe of the same shape as a sample: kinds, ranges and spreads, but no value of it."""
