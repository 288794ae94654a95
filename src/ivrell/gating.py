"""A gate: is the new version of a comparison slower than the old one, or wrong?

Both versions run interleaved in one job, so that a noisy machine hurts both alike, for as few
rounds as tell. What is loaded at once is next to nothing.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from ivrell.api import Comparison, Trial, read

if TYPE_CHECKING:
    from ivrell.core.records.events import TrialEvent
    from ivrell.core.records.gate import GateFindings
    from ivrell.core.records.points import Value
    from ivrell.core.trial.control import Control

AT_MOST = 80
"""Rounds at the most: what they do not tell, more of them hardly would."""


def gate(
    file: Path | str,
    against: str,
    *,
    no_slower_than: float = 0.1,
    measures: Sequence[str] = (),
    minutes: float = 10.0,
    lanes: Sequence[str] = (),
    knobs: Mapping[str, Sequence[Value]] | None = None,
    claims: bool = False,
    targets: bool = False,
    code_is_read: bool = False,
    stored: bool = False,
    folder: Path | None = None,
    progress: Callable[[TrialEvent], None] | None = None,
    control: Control | None = None,
) -> GateFindings:
    """Hold the lanes of a comparison file against those of an older version.

    Args:
        file: the new version.
        against: the old one: a result folder, a bundle, a comparison file, or ``FILE@REF`` of a git
            repository.
        no_slower_than: the share that is let pass; where a lane's runs spread by 15 % or less, what
            is slower by twice of it is found in at least 95 of 100 tries, and equals are called
            slower in at most 5.
        measures: keys such as ``cpu_total`` and ``peak_memory``; elapsed time unless given.
        minutes: that it may take.
        lanes: ids of those that are gated; all that were changed unless given.
        knobs: values that they run at; the first of each unless given.
        claims, targets: fail for a claim that does not hold, or for a target that is missed.
        code_is_read: a bundle's code was read and may run.
        stored: take the kept figures of a result folder instead of running its version, by way of
            lanes that are the same in both.
        folder: of the results; a new one in Ivrell's data folder unless given.
        progress, control: as ``Comparison.run`` takes them.

    Raises BadInput.
    """
    from ivrell.core.base.errors import BadInput
    from ivrell.core.comparison.edit import set_fields
    from ivrell.core.contain import sandbox
    from ivrell.core.gate.judged import Gate, held_claims, held_targets, measures_called
    from ivrell.core.gate.stored import StoredGate
    from ivrell.core.gate.versions import old_version, paired
    from ivrell.core.records.gate import GateFindings
    from ivrell.core.stats.sequential import AT_LEAST
    from ivrell.core.trial.plan import points_of

    if not 0 < no_slower_than < 10:
        raise BadInput("--no-slower-than is a share above nought, such as 10%.")
    new = read(file)
    old = old_version(against)
    if stored and old.folder is None:
        raise BadInput(
            f"{against} keeps no figures.", where="--stored", hint="Name a result folder."
        )
    if old.stranger and not stored:
        if not code_is_read:
            raise BadInput(
                "A bundle is a stranger's, and its code is run in the sandbox of this machine.",
                hint="Read it (ivrell unpack BUNDLE), then say --code-is-read.",
            )
        sandbox.refuse_stranger()
    keys = measures_called(measures)
    pairing = paired(new.text, old.text, lanes, both_run=not stored)
    found = GateFindings(
        against=old.name, margin=no_slower_than, minutes=minutes, lanes=[],
        unchanged=pairing.unchanged, added=pairing.added, removed=pairing.removed,
        differences=pairing.differences,
    )  # fmt: skip
    if not pairing.lanes:
        return found
    both = Comparison(pairing.text, new.own_files)
    if stored and pairing.differences:
        raise BadInput(
            f"Another than in {old.name} is also {' and '.join(pairing.differences)}: kept figures "
            "are of something else.",
            where="--stored", hint="Run both versions: leave --stored out.",
        )  # fmt: skip
    asked = list(dict.fromkeys(one for pair in pairing.lanes.items() for one in pair))
    if claims:
        # What claims name has to run for them to be told.
        asked += [one for claim in both.contents.claim for one in claim.lanes if one not in asked]
    plan = both.plan(
        approaches=asked, knobs=dict(knobs or {}),
        # What disturbs a round disturbs both; to wait for a quiet machine would be in vain.
        disturbed={"share": 1.0, "wait_s": 0.0},
        sandbox="auto",
        until={"at_least": AT_LEAST, "at_most": AT_MOST, "minutes": minutes, "narrower_than": 1e-6},
    )  # fmt: skip
    points = points_of(plan, both.contents)
    anchors: list[str] = []
    if stored and old.folder is not None:
        kept = Trial.open(old.folder)
        held_to = StoredGate(
            both.contents, pairing, points, keys, no_slower_than,
            then=kept.comparison.contents, kept=kept.records, found=kept.whole,
        )  # fmt: skip
        rule: Gate = held_to
        anchors = held_to.anchors
        # A changed lane that answers were held against would always be right.
        text = set_fields(pairing.text, None, {"baseline": anchors[0]})
        both = Comparison(text, new.own_files)
        asked += [lane for lane in anchors if lane not in asked]
        plan = plan.model_copy(update={"approaches": asked})
    else:
        rule = Gate(both.contents, pairing, points, keys, no_slower_than)
    trial = both.run(plan, folder=folder, progress=progress, control=control, rule=rule.enough)
    told = trial.whole
    held = [*held_claims(told)] if claims else []
    held += held_targets(both.contents, told, list(pairing.lanes)) if targets else []
    return found.model_copy(
        update={
            "lanes": rule.judged(trial.records, told, _lines(new.text)), "held": held,
            "anchors": anchors,
            "rounds": max((run.round for run in trial.records), default=0),
            "stopped": told.ended != "done", "folder": str(trial.folder),
        }
    )  # fmt: skip


def _lines(text: str) -> dict[str, int]:
    """The line of a file at which each lane names itself."""
    found: dict[str, int] = {}
    for number, line in enumerate(text.splitlines(), 1):
        if named := re.fullmatch(r"""\s*id\s*=\s*["']([^"']+)["'].*""", line):
            found.setdefault(named[1], number)
    return found
