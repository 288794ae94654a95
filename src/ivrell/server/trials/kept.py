"""Replies about trials that have ended, kept as they are sent.

What stands in a result folder changes no more, and reading it whole for one size takes seconds
where there are many. A reply of another edition is made anew.
"""

import hashlib
import json
from functools import lru_cache

from django.db import transaction

from ivrell.core.records.findings import FINDINGS_EDITION
from ivrell.core.records.points import Point
from ivrell.server.trials.models import Reply, Trial
from ivrell.server.trials.shapes import PointFindings, Sweep

_SWEEP = "sweep"


def findings_at(trial: Trial, point: Point | None) -> str:
    """What the runs of a trial say at a point (the first when None), as JSON of PointFindings."""
    points = trial.points
    point = points[0] if point is None else point
    if trial.has_claims_of_now and (text := _kept(trial, str(points.index(point)))):
        return text
    return PointFindings.of(trial, trial.findings(point)).model_dump_json()


def sweep_of(trial: Trial) -> str:
    """How the lanes do over all its points, as JSON of Sweep."""
    return _kept(trial, _SWEEP) or _swept(trial).model_dump_json()


def keep(trial: Trial) -> None:
    """Keep what is said of a trial that has ended, in the place of what was kept."""
    if not trial.job.has_ended_well or not trial.runs.exists():
        trial.replies.all().delete()
        return
    told = trial.all_findings()
    texts = {
        str(place): PointFindings.of(trial, found).model_dump_json()
        for place, point in enumerate(trial.points)
        for found in told
        if found.point == point
    }
    texts[_SWEEP] = Sweep.of(told, trial.along_knobs()).model_dump_json()
    replies = [
        Reply(trial=trial, what=what, edition=_edition(), text=text) for what, text in texts.items()
    ]
    with transaction.atomic():
        trial.replies.all().delete()
        # Another may keep them at the same time.
        Reply.objects.bulk_create(
            replies, update_conflicts=True,
            unique_fields=["trial", "what"], update_fields=["edition", "text"],
        )  # fmt: skip


def _kept(trial: Trial, what: str) -> str:
    """A reply that was kept; "" where the trial goes on."""
    if not trial.job.has_ended_well:
        return ""
    here = trial.replies.filter(what=what, edition=_edition())
    found = here.values_list("text", flat=True).first()
    if found is None:
        keep(trial)
        found = here.values_list("text", flat=True).first()
    return found or ""


def _swept(trial: Trial) -> Sweep:
    return Sweep.of(trial.all_findings(), trial.along_knobs())


@lru_cache(maxsize=1)
def _edition() -> str:
    """Of which shape replies are now: another schema, or another way of judging, is another."""
    shapes = [FINDINGS_EDITION, PointFindings.model_json_schema(), Sweep.model_json_schema()]
    return hashlib.sha256(json.dumps(shapes, sort_keys=True).encode()).hexdigest()
