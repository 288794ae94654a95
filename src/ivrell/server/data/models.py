"""Making data ahead of a trial: what was asked for, how far it is, what came of it."""

from django.db import models, transaction
from django.utils import timezone

from ivrell.core.records.trouble import Trouble
from ivrell.server.comparisons.models import Comparison
from ivrell.server.data.shapes import MakeRequest


class MakingQuerySet(models.QuerySet["Making"]):
    """Asking for data."""

    def launch(self, comparison: Comparison, wanted: MakeRequest) -> "Making":
        """Record what is wanted of the comparison as it is now, and put it into the queue."""
        from ivrell.server.data.tasks import make_data

        with transaction.atomic():
            making = self.create(
                comparison=comparison, text=comparison.text, wanted=wanted.model_dump(mode="json")
            )
            make_data.defer(making_id=making.pk)
        return making


class Making(models.Model):
    """Tables being made in some forms, or read through for a profile of every row."""

    class State(models.TextChoices):
        WAITING = "waiting"
        RUNNING = "running"
        DONE = "done"
        STOPPED = "stopped"
        FAILED = "failed"

    comparison = models.ForeignKey(Comparison, on_delete=models.CASCADE, related_name="makings")
    text = models.TextField()
    wanted = models.JSONField()
    state = models.CharField(max_length=10, choices=State.choices, default=State.WAITING)
    progress = models.JSONField(default=dict)
    made = models.JSONField(default=list)
    profiles = models.JSONField(default=dict)
    message = models.JSONField(null=True)
    stop_asked = models.BooleanField(default=False)
    created_at = models.DateTimeField(auto_now_add=True)
    finished_at = models.DateTimeField(null=True)

    objects = MakingQuerySet.as_manager()

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return f"data {self.pk} of {self.comparison}"

    @property
    def request(self) -> MakeRequest:
        """What was asked for."""
        return MakeRequest.model_validate(self.wanted)

    def finish(self, state: str, message: Trouble | None = None) -> None:
        """Set the end state and keep all that came of it."""
        self.message = message and message.model_dump()
        self.state, self.finished_at = state, timezone.now()
        self.save()


class Sample(models.Model):
    """How a comparison's recipe was shaped after sample files: the shape of each column and
    how far the generated one is from it. No value of the files is kept but the ends of
    numbers that the shapes are drawn between."""

    comparison = models.OneToOneField(Comparison, on_delete=models.CASCADE, related_name="sample")
    recipe_text = models.TextField()
    columns = models.JSONField()
    created_at = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return f"sample of {self.comparison}"
