"""What is measured of the machine itself, in the queue that trials wait in too."""

import platform
from pathlib import Path

from procrastinate.contrib.django import app

from ivrell.server.queue import MACHINE_LOCK, QUEUE


@app.task(queue=QUEUE, lock=f"{MACHINE_LOCK}:{platform.node()}", name="measure_noise")
def measure_noise(folder: str) -> None:
    """Run equals against each other, while nothing else of Ivrell's runs here."""
    from ivrell.core.trial import aa_test

    aa_test.measure_noise(Path(folder))
