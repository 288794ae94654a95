"""Making data ahead of a trial: what was asked for, how far it is, what came of it."""

from django.db import models, transaction

from ivrell.server.comparisons.models import Comparison
from ivrell.server.data.shapes import MakeRequest
from ivrell.server.jobs.models import Job, Work


class MakingQuerySet(models.QuerySet["Making"]):
    """Asking for data."""

    def launch(self, comparison: Comparison, wanted: MakeRequest) -> "Making":
        """Record what is wanted of the comparison as it is now, and put it into the queue."""
        with transaction.atomic():
            return self.create(
                job=Job.objects.ask("making"),
                comparison=comparison,
                text=comparison.text,
                wanted=wanted.model_dump(mode="json"),
            )


class Making(Work):
    """Tables being made in some forms, or read through for a profile of every row."""

    comparison = models.ForeignKey(Comparison, on_delete=models.CASCADE, related_name="makings")
    text = models.TextField()
    wanted = models.JSONField()
    made = models.JSONField(default=list)
    profiles = models.JSONField(default=dict)

    objects = MakingQuerySet.as_manager()

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        return f"data {self.pk} of {self.comparison}"

    @property
    def request(self) -> MakeRequest:
        """What was asked for."""
        return MakeRequest.model_validate(self.wanted)


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
