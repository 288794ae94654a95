"""The queue that work of a machine waits in, a piece at a time."""

import platform

QUEUE = "trials"
MACHINE_LOCK = f"machine:{platform.node()}"
"""What is measured has the machine to itself: jobs that hold this lock wait for each other."""
