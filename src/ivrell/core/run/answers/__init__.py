"""What takes the answers of strangers: a process apart that reads them, and who drives it."""
