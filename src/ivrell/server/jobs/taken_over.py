"""How records of earlier versions, which held how they stand themselves, come to jobs."""

from collections.abc import Sequence
from typing import Any

from django.db.models import CASCADE

FIELD: dict[str, Any] = {"to": "jobs.job", "related_name": "of_%(class)s", "on_delete": CASCADE}
"""What the field of a record's job is, as migrations write it."""


def give_jobs(apps: Any, app: str, model: str, fields: Sequence[str]) -> None:
    """Give each record of a model a job of its own, which takes over some of its fields."""
    job = apps.get_model("jobs", "Job")
    for record in apps.get_model(app, model).objects.order_by("pk").iterator():
        taken = {field: getattr(record, field) for field in fields}
        record.job = job.objects.create(kind=model.lower(), **taken)
        record.save(update_fields=["job"])
