"""Commands that ask the application of this machine: its queue, pausing, going on."""

import argparse
import datetime

from pydantic import BaseModel, ConfigDict

from ivrell.cli.console import OUT
from ivrell.cli.given import tell
from ivrell.core.base.running import ask


class JobTold(BaseModel):
    """A job as the application tells it, with more that its API documents."""

    model_config = ConfigDict(extra="allow")

    id: int
    state: str
    words: str
    comparison_name: str
    trial: int | None
    done_runs: int | None
    planned_runs: int | None
    headline: str
    not_before: datetime.datetime | None

    @property
    def line(self) -> str:
        """In a line."""
        what = f"{self.comparison_name}: {self.words}" if self.comparison_name else self.words
        number = "" if self.trial is None else f" {self.trial}"
        runs = "" if self.planned_runs is None else f"{self.done_runs} of {self.planned_runs} runs"
        if self.state not in ("waiting", "running", "paused"):
            return "; ".join(filter(None, [f"{what}{number}", self.headline]))
        due = f"not before {self.not_before.astimezone():%d %b %H:%M}" if self.not_before else ""
        return "; ".join(filter(None, [f"{what}{number}", runs, due]))


class QueueTold(BaseModel):
    """The queue of the application, with more that its API documents."""

    model_config = ConfigDict(extra="allow")

    under_way: list[JobTold]
    ended: list[JobTold]


class TrialTold(BaseModel):
    """A trial as the application tells it."""

    id: int
    comparison_name: str
    state: str
    pause_asked: bool


_ENDED = 10


def queue(args: argparse.Namespace) -> int:
    """Print what is done, what waits and what ended last."""
    answer = ask("GET", "queue/", data=args.data_dir)
    told = QueueTold.model_validate(answer)
    tell(args, told, lambda: _queued(told))
    return 0


def _queued(told: QueueTold) -> None:
    for title, jobs in (("Under way", told.under_way), ("Ended", told.ended[:_ENDED])):
        OUT.print(title if jobs else f"{title}: nothing")
        for job in jobs:
            OUT.print(f"  {job.state:8} {job.line}")


def pause_or_go_on(args: argparse.Namespace) -> int:
    """Let others pass a trial, or let it go on."""
    answer = ask("POST", f"trials/{args.trial}/{args.command}/", data=args.data_dir)
    told = TrialTold.model_validate(answer)
    words = "pauses after the run under way" if told.pause_asked else f"is {told.state}"
    OUT.print(f"Trial {told.id} of {told.comparison_name} {words}.")
    return 0
