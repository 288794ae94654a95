"""What a trial over several values of a knob says."""
