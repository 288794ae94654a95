"""How a job stands."""

from typing import Literal

from django.db.models import TextChoices


class State(TextChoices):
    """As records hold it."""

    WAITING = "waiting"
    RUNNING = "running"
    PAUSED = "paused"
    DONE = "done"
    STOPPED = "stopped"
    FAILED = "failed"


JobState = Literal["waiting", "running", "paused", "done", "stopped", "failed"]
"""As the API tells it."""
