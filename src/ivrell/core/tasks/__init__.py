"""What a run's own process does: a task that is called, and answers of any library as one table."""
