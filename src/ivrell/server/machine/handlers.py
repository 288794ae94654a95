"""What is measured of the machine itself, in the queue that trials wait in too."""

from django.conf import settings

from ivrell.core.base.errors import Stopped
from ivrell.server.jobs.handlers import HANDLERS, Handler, Hold, HoldControl
from ivrell.server.jobs.models import Job
from ivrell.server.machine.environments import EnvironmentAsked

_LINES = 12
"""Of what is said so many last lines are told."""


def _measure_noise(job: Job, hold: Hold) -> None:
    """Run equals against each other, while nothing else of Ivrell's runs here."""
    from ivrell.core.trial import aa_test

    if aa_test.measure_noise(settings.IVRELL_DATA, control=HoldControl(hold)) is None:
        raise Stopped


def _make_environment(job: Job, hold: Hold) -> None:
    """Make an environment of packages; its last lines are its progress."""
    from ivrell.core.environments import make

    asked = EnvironmentAsked.model_validate(job.asked)
    said: list[str] = []
    log = settings.IVRELL_DATA / "log" / f"environment-{asked.name}.log"
    log.parent.mkdir(exist_ok=True)
    with log.open("w", encoding="utf-8") as file:

        def listen(line: str) -> None:
            file.write(f"{line}\n")
            file.flush()
            said.append(line)
            job.progress = {"lines": said[-_LINES:]}
            job.save(update_fields=["progress"])

        make(
            asked.name, asked.packages, python=asked.python or None, data=settings.IVRELL_DATA,
            listen=listen, stopped=hold.stopped,
        )  # fmt: skip


HANDLERS["environment"] = Handler("Making the environment", _make_environment)
HANDLERS["noise"] = Handler("Measuring the machine's noise", _measure_noise)
