"""Comparisons as records: the text of the file is the truth, the rest is read from it."""

from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import models

from ivrell.core.comparison.file import parse
from ivrell.core.comparison.model import Comparison as ComparisonData
from ivrell.core.errors import BadInput
from ivrell.core.recipe.model import Recipe


def resolved(text: str, knobs: dict[str, Any]) -> Recipe:
    """The recipe of a comparison's text at its first point, with some knobs set otherwise;
    own files' paths start from Ivrell's folder of files. Raises BadInput."""
    return resolved_of(parse(text), knobs)


def resolved_of(data: ComparisonData, knobs: dict[str, Any] | None = None) -> Recipe:
    """The same of a text that has been read."""
    point = {**next(data.points({})), **(knobs or {})}
    return with_files(data).resolved(point)


def with_files(data: ComparisonData) -> Recipe:
    """The recipe with the whole paths of the user's own files. Raises BadInput for one that lies
    outside the folders which the server may read for those who are signed in."""
    based = data.data.based_on(settings.OWN_FILES[0])
    for name, table in based.tables.items():
        if table.file is None:
            continue
        path = Path(table.file).resolve()
        if not any(path.is_relative_to(folder.resolve()) for folder in settings.OWN_FILES):
            raise BadInput(
                f"The server does not read {table.file}.",
                where=f"data.tables.{name}.file",
                cure=f"Put the file into {settings.OWN_FILES[0]}, or start Ivrell with "
                "IVRELL_FILES set to its folder.",
            )
    return based


class ComparisonQuerySet(models.QuerySet):
    """Comparisons that are there, and making one from a file."""

    def present(self):
        """Those not deleted."""
        return self.filter(deleted_at=None)

    def from_text(self, text: str, *, demo: str = "") -> "Comparison":
        """A new record from the text of a file. Raises BadInput when it is no good."""
        record = Comparison(demo=demo)
        record.put_text(text)
        record.save()
        return record


class Comparison(models.Model):
    """One question with its data and approaches, as the text of its file.

    ``marks`` gives each lane that ever was its place in the palette of colours and glyphs,
    so that a lane keeps them when others come, go or change places.
    """

    name = models.CharField(max_length=200)
    text = models.TextField()
    marks = models.JSONField(default=dict)
    demo = models.CharField(max_length=100, blank=True, default="")
    created_at = models.DateTimeField(auto_now_add=True)
    changed_at = models.DateTimeField(auto_now=True)
    deleted_at = models.DateTimeField(null=True, blank=True)

    objects = ComparisonQuerySet.as_manager()

    class Meta:
        ordering = ["-changed_at"]

    def __str__(self) -> str:
        return self.name

    def put_text(self, text: str) -> None:
        """Take another text. Raises BadInput and changes nothing when it is no good."""
        data = parse(text)
        self.name = data.name
        self.text = text
        for approach in data.approach:
            if approach.id not in self.marks:
                taken = set(self.marks.values())
                free = next(place for place in range(len(taken) + 1) if place not in taken)
                self.marks = {**self.marks, approach.id: free}

    @property
    def data(self) -> ComparisonData:
        """The text as typed data."""
        return parse(self.text)
