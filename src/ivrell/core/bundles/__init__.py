"""A trial in one archive: packed, opened as a stranger's, run again with a second opinion."""
