"""Where a lane's time goes, by line."""
