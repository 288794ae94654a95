"""Two versions of a comparison held against each other in one job."""
