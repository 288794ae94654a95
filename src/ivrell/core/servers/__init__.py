"""Database servers: private ones that Ivrell keeps, those of the user's own, and their dialects."""
