"""What everything stands on: errors, folders, locks, waits, quantities, words; knows no more."""
