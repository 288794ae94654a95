"""A comparison as typed data: what its file may say."""

import re
from collections.abc import Iterable, Iterator, Mapping
from itertools import product
from typing import TYPE_CHECKING, Annotated, Any, Literal, Self, Union, get_args

from pydantic import BeforeValidator, Field, model_validator

from ivrell.core.base.errors import BadInput
from ivrell.core.base.quantities import BYTES, SECONDS, parse_bytes, parse_seconds
from ivrell.core.comparison.claims import Claim
from ivrell.core.comparison.part import Part
from ivrell.core.engines.base import Approach
from ivrell.core.engines.registry import ENGINES
from ivrell.core.recipe.forms import FORMS
from ivrell.core.recipe.kinds import NAME, Name
from ivrell.core.recipe.model import Recipe
from ivrell.core.records.cost import Assumed
from ivrell.core.records.plan import NamedPlan
from ivrell.core.records.points import Point, Value

_MOST_PARTS = 10_000

MATTERS = 0.05
"""The share below which a difference does not matter, unless the question says another."""

if TYPE_CHECKING:
    AnyApproach = Approach
else:
    AnyApproach = Annotated[
        Union[tuple(engine.approach for engine in ENGINES.values())],  # noqa: UP007 - made at run time
        Field(discriminator="engine"),
    ]


def _quantity(reader: Any, units: Iterable[str]) -> BeforeValidator:
    """Reads what has its unit with it, which the schema tells as well."""

    def read(value: Any) -> Any:
        if not isinstance(value, str):
            return value
        try:
            return reader(value)
        except BadInput as error:
            raise ValueError(str(error)) from None

    words = "|".join(
        "".join(f"[{c}{c.upper()}]" if c.isascii() else c for c in unit) for unit in units
    )
    written = rf"^\s*[0-9]+(\.[0-9]+)?\s*({words})?\s*$"
    given = Annotated[float, Field(gt=0)] | Annotated[str, Field(pattern=written)]
    return BeforeValidator(read, json_schema_input_type=given)


class Statistics(Part):
    """How near the statistics of a random model's answers must be: the mean of each column of
    numbers, and its standard deviation where there are enough rows, as shares of the
    reference's."""

    mean: Annotated[float, Field(gt=0, lt=1)] = 0.02
    spread: Annotated[float, Field(gt=0, lt=10)] = 0.2


class Answer(Part):
    """Shape of the answer, and how close two answers must be to be the same.

    Numbers agree when they differ by at most ``absolute + relative * |reference|``. Answers are
    held against that of the lane ``reference`` (the baseline unless named), or against a stored
    one: ``expected`` is a parquet or csv file, knobs in braces in its name. Answers of random
    models are held against each other by ``statistics`` instead of row by row. With
    ``exact_types`` a column of another type than the reference's is another answer, even where
    it lost nothing.
    """

    key: list[str] = []
    order: bool = False
    exact_types: bool = False
    relative: Annotated[float, Field(ge=0, lt=1)] = 1e-9
    absolute: Annotated[float, Field(ge=0)] = 0.0
    reference: str | None = None
    expected: Annotated[str, Field(max_length=500)] | None = None
    statistics: Statistics | None = None


class Targets(Part):
    """What is good enough: seconds of elapsed time, bytes of peak memory above start."""

    elapsed: Annotated[float, _quantity(parse_seconds, SECONDS), Field(gt=0)] | None = None
    memory: Annotated[int, _quantity(parse_bytes, BYTES), Field(gt=0)] | None = None


class Note(Part):
    """What an engineer wrote beside the figures, Markdown: of one ``lane``, of a ``pair`` of
    lanes, or of the whole comparison where it names none."""

    text: Annotated[str, Field(min_length=1, max_length=20_000)]
    lane: str | None = None
    pair: Annotated[list[str], Field(min_length=2, max_length=2)] | None = None

    @model_validator(mode="after")
    def _of_one_thing(self) -> Self:
        if self.lane is not None and self.pair is not None:
            raise ValueError("note: it is of a lane or of a pair, not of both; leave one out")
        return self


class Comparison(Part):
    """One question, its data and its approaches. A difference below the share ``matters`` does not
    matter to who asks."""

    format: Literal["ivrell-comparison/1"]
    name: Annotated[str, Field(min_length=1, max_length=200)]
    question: Annotated[str, Field(max_length=20_000)] = ""
    baseline: str | None = None
    answer: Answer = Answer()
    targets: Targets = Targets()
    matters: Annotated[float, Field(gt=0, lt=1)] = MATTERS
    knobs: dict[Name, Annotated[list[Value], Field(min_length=1, max_length=100)]] = {}
    data: Recipe
    approach: list[AnyApproach] = []
    note: Annotated[list[Note], Field(max_length=500)] = []
    claim: Annotated[list[Claim], Field(max_length=200)] = []
    plan: Annotated[list[NamedPlan], Field(max_length=50)] = []
    cost: Assumed | None = None

    @model_validator(mode="after")
    def _consistent(self) -> Self:
        ids = [approach.id for approach in self.approach]
        for position, approach in enumerate(self.approach):
            where = f"approach {approach.id}"
            if not re.fullmatch(NAME, approach.id):
                raise ValueError(
                    f'approach {position + 1}: "{approach.id}" is no id; an id holds letters, '
                    "digits and underscores alone, up to 63, and begins with no digit"
                )
            if approach.id in ids[:position]:
                raise ValueError(f'two approaches have the id "{approach.id}"; rename one')
            forms = ENGINES[approach.engine].forms or tuple(FORMS)
            wanted = approach.wanted
            if wanted.form not in forms and not getattr(approach, "server", None):
                raise ValueError(
                    f'{where}: the engine {approach.engine} reads no form "{wanted.form}"; '
                    f"it reads: {', '.join(forms)}"
                )
            if not 1 <= wanted.parts <= _MOST_PARTS:
                raise ValueError(f"{where}: parts must be from 1 to {_MOST_PARTS}")
            if wanted.parts > 1 and wanted.split_by:
                raise ValueError(f"{where}: input takes either parts or split_by, not both")
            if approach.parent is not None and approach.parent == approach.id:
                raise ValueError(f"{where}: an approach cannot be its own parent")
        if self.answer.reference is not None and self.answer.reference not in ids:
            raise ValueError(
                f'answer.reference: there is no approach "{self.answer.reference}"; '
                f"approaches: {', '.join(ids)}"
            )
        for claim in self.claim:
            for lane in claim.lanes:
                if lane not in ids:
                    raise ValueError(_no_lane("claim", lane, ids))
            if claim.meets is not None and getattr(self.targets, claim.meets) is None:
                raise ValueError(f"claim: meets: there is no target of {claim.meets}; set one")
            if claim.crossing is not None and claim.crossing.knob not in self.knobs:
                known = ", ".join(self.knobs) or "none yet"
                raise ValueError(
                    f'claim: crossing: there is no knob "{claim.crossing.knob}"; knobs: {known}'
                )
        for lane in self.cost.work if self.cost else ():
            if lane not in ids:
                raise ValueError(_no_lane("cost.work", lane, ids))
        for note in self.note:
            for lane in (note.lane, *(note.pair or ())):
                if lane is not None and lane not in ids:
                    raise ValueError(_no_lane("note", lane, ids))
        for position, plan in enumerate(self.plan):
            where = f'plan "{plan.name}"'
            if plan.name in [other.name for other in self.plan[:position]]:
                raise ValueError(f"two plans have the name {plan.name!r}; rename one")
            for lane in plan.approaches or []:
                if lane not in ids:
                    raise ValueError(_no_lane(where, lane, ids))
            for knob in dict.fromkeys((*plan.knobs, *(k for p in plan.points for k in p))):
                if knob not in self.knobs:
                    known = ", ".join(self.knobs) or "none yet"
                    raise ValueError(f'{where}: there is no knob "{knob}"; knobs: {known}')
        if self.baseline is not None and self.baseline not in ids:
            raise ValueError(
                f'baseline: there is no approach "{self.baseline}"; approaches: {", ".join(ids)}'
            )
        return self

    def plan_called(self, name: str) -> NamedPlan:
        """The plan of that name. Raises BadInput when there is none."""
        for plan in self.plan:
            if plan.name == name:
                return plan
        known = ", ".join(f'"{plan.name}"' for plan in self.plan) or "none"
        raise BadInput(f'There is no plan "{name}".', hint=f"Plans here: {known}.")

    def approach_called(self, approach_id: str) -> Approach:
        """The approach of that id. Raises BadInput when there is none."""
        for approach in self.approach:
            if approach.id == approach_id:
                return approach
        known = ", ".join(approach.id for approach in self.approach) or "none yet"
        raise BadInput(f'There is no approach "{approach_id}".', hint=f"Approaches here: {known}.")

    @property
    def baseline_id(self) -> str | None:
        """The baseline's id: the one named, else the first approach, else None."""
        return self.baseline or (self.approach[0].id if self.approach else None)

    def points(self, chosen: Mapping[str, list[Value]]) -> Iterator[Point]:
        """Every choice of knob values, in the order of the file.

        Knobs in ``chosen`` take those values; the others their first. Raises BadInput
        for a knob that does not exist.
        """
        for knob in chosen:
            if knob not in self.knobs:
                known = ", ".join(self.knobs) or "none"
                raise BadInput(f'There is no knob "{knob}".', hint=f"Knobs here: {known}.")
        values = [chosen.get(knob) or given[:1] for knob, given in self.knobs.items()]
        for point in product(*values):
            yield dict(zip(self.knobs, point, strict=True))


def _no_lane(where: str, lane: str, ids: list[str]) -> str:
    return f'{where}: there is no approach "{lane}"; approaches: {", ".join(ids)}'


FORMAT: str = get_args(Comparison.model_fields["format"].annotation)[0]
"""What the first line of a file of now says."""
