"""Comparisons as records: the text of the file is the truth, the rest is read from it."""

from functools import lru_cache
from typing import Any

from django.apps import apps
from django.conf import settings
from django.db import models

from ivrell.core.base.errors import BadInput
from ivrell.core.comparison import looking
from ivrell.core.comparison.file import parse
from ivrell.core.comparison.model import Comparison as ComparisonData

read = lru_cache(maxsize=256)(parse)
"""A comparison from its text, or BadInput; what was read lately is not read again."""


def subject(text: str, knobs: dict[str, Any] | None = None) -> looking.Subject:
    """A comparison's text to be looked at, with some knobs set otherwise, and the folders whose
    files the server reads for those who are signed in."""
    return looking.Subject(text, knobs or {}, tuple(settings.OWN_FILES))


class ComparisonQuerySet(models.QuerySet["Comparison"]):
    """Comparisons that are there, and making one from a file."""

    def present(self) -> "ComparisonQuerySet":
        """Those not deleted."""
        return self.filter(deleted_at=None)

    def listed(self) -> "ComparisonQuerySet":
        """Those present, the last changed first, with what a list tells of their trials."""
        trials = apps.get_model("trials", "Trial").objects.filter(deleted_at=None)
        told = trials.select_related("job").only("comparison", "conclusion", "job")
        newest = self.present().order_by("-changed_at")
        return newest.prefetch_related(models.Prefetch("trials", queryset=told))

    def from_text(self, text: str, *, demo: str = "") -> "Comparison":
        """A new record from the text of a file. Raises BadInput when it is no good."""
        record = Comparison(demo=demo)
        record.put_text(text)
        record.save()
        return record


class Comparison(models.Model):
    """One question with its data and approaches, as the text of its file.

    ``marks`` gives each lane that ever was its place in the palette of colours and glyphs,
    so that a lane keeps them when others come, go or change places; ``board`` the columns
    that were chosen for the board of findings; ``labels`` are words that people sort it by. One
    that came with somebody's bundle is ``unread`` until somebody says that its code was read.
    """

    name = models.CharField(max_length=200)
    text = models.TextField()
    marks = models.JSONField(default=dict)
    board = models.JSONField(default=list)
    labels = models.JSONField(default=list)
    demo = models.CharField(max_length=100, blank=True, default="")
    unread = models.BooleanField(default=False)
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

    def refuse_unread(self) -> None:
        """Raise BadInput where its code came from somebody else and nobody has read it yet."""
        if self.unread:
            raise BadInput(
                "This comparison came with somebody's trial, and its code has not been read yet.",
                hint="Read the code of every lane, then say so at the top of the page.",
            )

    @property
    def data(self) -> ComparisonData:
        """The text as typed data."""
        return read(self.text)
