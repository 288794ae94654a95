"""What is measured of the machine itself, in the queue that trials wait in too."""

from django.conf import settings

from ivrell.core.base.errors import Stopped
from ivrell.server.jobs.handlers import HANDLERS, Handler, Hold, HoldControl
from ivrell.server.jobs.models import Job


def _measure_noise(job: Job, hold: Hold) -> None:
    """Run equals against each other, while nothing else of Ivrell's runs here."""
    from ivrell.core.trial import aa_test

    if aa_test.measure_noise(settings.IVRELL_DATA, control=HoldControl(hold)) is None:
        raise Stopped


HANDLERS["noise"] = Handler("Measuring the machine's noise", _measure_noise)
