"""What a trial needs before its first run: checked, then made."""

import logging
import os
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from functools import partial
from pathlib import Path
from typing import TypeVar

from ivrell.core.agreement.sources import Sources
from ivrell.core.base.errors import BadInput, NotAvailable
from ivrell.core.comparison.model import Comparison
from ivrell.core.engines.base import Approach, state_of
from ivrell.core.engines.registry import ENGINES
from ivrell.core.recipe.csv_style import CsvStyle
from ivrell.core.recipe.databases import DATABASES
from ivrell.core.recipe.databases.places import Databases
from ivrell.core.recipe.databases.store import Loaded
from ivrell.core.recipe.encode import drawers_at_hand
from ivrell.core.recipe.generate import Generator, shapes
from ivrell.core.recipe.input import Input
from ivrell.core.recipe.making import Progress
from ivrell.core.recipe.model import Recipe
from ivrell.core.recipe.store import DataStore, Made
from ivrell.core.records.data import MadeTable
from ivrell.core.records.machine import UsedRuntime
from ivrell.core.records.plan import OWN
from ivrell.core.records.points import Point, point_name
from ivrell.core.records.wire import TableShape
from ivrell.core.runtimes import Runtimes
from ivrell.core.spark.making import store_at
from ivrell.core.spark.places import Places
from ivrell.core.trial.plan import Plan, chosen_approaches, points_of

log = logging.getLogger("ivrell.trial")

Tables = dict[str, Made] | Loaded
"""The tables of a point as an approach finds them: in files, or loaded."""

DataPlace = tuple[str, Input, tuple[str, ...], tuple[str, ...], str]
"""A point, an input, the keys and indexes of loaded tables, and the server they stand on."""

Done = TypeVar("Done")


class Preparation:
    """The data, the servers and the interpreters of one trial.

    Args:
        plan: what is to be done.
        store: where made data is kept.
        workers: processes that make data.
        registry: folder in which other interpreters and servers are registered; Ivrell's own
            unless given.

    Raises BadInput for what cannot be run here, before anything is made.
    """

    def __init__(
        self,
        comparison: Comparison,
        plan: Plan,
        store: DataStore,
        *,
        workers: int,
        registry: Path | None,
    ) -> None:
        self.comparison = comparison
        self.plan = plan
        self.store = store
        self.lanes = chosen_approaches(plan, comparison)
        self.points = points_of(plan, comparison)
        self.databases = Databases(store.root.with_name("loaded"), registry)
        self._workers = workers
        if workers > 1:
            drawers_at_hand()
        self._made: dict[DataPlace, Tables] = {}
        self._lacking: dict[DataPlace, NotAvailable] = {}
        self._based = comparison.data.based_on(Path(plan.own_files or Path.cwd()))
        self._recipes = {point_name(p): self._based.resolved(p) for p in self.points}
        self.spark = Places(
            store.root.with_name("spark"), registry, (str(store.root), *self._own_files()),
            plan.cores,
        )  # fmt: skip
        self._engines_lacking = _engines_lacking(self.approaches)
        _check_cores(plan)
        self._check_layouts(self._recipes.values())
        for approach in self._able:
            form = approach.wanted.form
            if form in DATABASES and DATABASES[form].on_server:
                # Whether there is such a server is told before anything is made.
                self.databases.at(approach.needs.at, form).given_or_refused(form)
            if approach.needs.session:
                self.spark.cluster(approach.needs.at)
        known = Runtimes(registry)
        own = (approach.needs.runtime for approach in self.approaches)
        names = dict.fromkeys((*own, *(name for name in plan.runtime if name != OWN)))
        self.runtimes = {name: known.get(name) for name in names if name}

    def _own_files(self) -> set[str]:
        """Files of the user's own that tables are."""
        recipes = self._recipes.values()
        found = (recipe.own_file(table) for recipe in recipes for table in recipe.tables)
        return {str(own.path) for own in found if own}

    @property
    def own_styles(self) -> dict[str, CsvStyle]:
        """How the csv files of the user's own are written, by table."""
        tables = next(iter(self._recipes.values())).tables
        return {name: table.csv or CsvStyle() for name, table in tables.items() if table.file}

    def stop(self) -> None:
        """Stop the servers and clusters of Ivrell's own that were started."""
        self.databases.stop()
        self.spark.stop()

    @property
    def approaches(self) -> list[Approach]:
        """The approaches that run, in the file's order."""
        return [self.comparison.approach_called(lane) for lane in self.lanes]

    @property
    def _able(self) -> list[Approach]:
        """The approaches whose engine is installed."""
        return [one for one in self.approaches if one.engine not in self._engines_lacking]

    @property
    def used_runtimes(self) -> dict[str, UsedRuntime]:
        """The other interpreters that runs use, by name."""
        return {
            name: UsedRuntime(
                implementation=runtime.implementation,
                version=runtime.version,
                interpreter=runtime.interpreter,
                packages=dict(runtime.packages),
            )
            for name, runtime in self.runtimes.items()
        }

    def _check_layouts(self, recipes: Iterable[Recipe]) -> None:
        """Refuse what cannot be laid out at a point."""
        for approach in self._able:
            engine = ENGINES[approach.engine]
            if not engine.looks_at_tables:
                continue
            for recipe in recipes:
                if wrong := engine.problem_with(approach, shapes(recipe)):
                    where = f"approach {approach.id}"
                    where += f", line {wrong.line}" if wrong.line else ""
                    raise BadInput(wrong.what, where=where, hint=wrong.hint)

    def shapes(self, point: Point) -> Mapping[str, TableShape]:
        """The shape of each table at a point."""
        recipe = self.recipe(point)
        generator = Generator(recipe)
        return {
            table: TableShape(
                recipe.rows_of(table), generator.schema(table).serialize().to_pybytes().hex()
            )
            for table in recipe.tables
        }

    def recipe(self, point: Point) -> Recipe:
        """The recipe at a point, with its knobs in place."""
        return self._recipes[point_name(point)]

    def sources(self, point: Point) -> Sources:
        """The rows that go in at a point."""
        return Sources(self.recipe(point))

    def add(self, point: Point) -> None:
        """Take in a point that the plan did not name. Raises BadInput for one that cannot be run
        here."""
        recipe = self._based.resolved(point)
        self._check_layouts([recipe])
        self._recipes[point_name(point)] = recipe
        self.points.append(point)

    def make_all(
        self,
        progress: Progress,
        stopped: Callable[[], bool],
        *,
        lanes: Collection[str] | None = None,
        points: Sequence[Point] | None = None,
    ) -> list[MadeTable]:
        """Make the data of every approach at every point, or of some; what was made so far. What
        lanes lack that others do not need is told as their runs come. Raises Stopped, and
        NotAvailable where every lane lacks it."""
        able = [one for one in self._able if lanes is None or one.id in lanes]
        for point in points or self.points:
            for approach in able:
                place = _place_of_data(point, approach)
                if place not in self._made and place not in self._lacking:
                    make = partial(self.make, point, approach, progress, stopped)
                    try:
                        self._made[place] = self.with_server(make)
                    except NotAvailable as error:
                        self._lacking[place] = error
        if self._lacking and not self._made:
            raise next(iter(self._lacking.values()))
        tables = [table for made in self._made.values() for table in _records(made)]
        return list({(table.paths[0], table.table): table for table in tables}.values())

    def make(
        self,
        point: Point,
        approach: Approach,
        progress: Progress | None = None,
        stopped: Callable[[], bool] | None = None,
    ) -> Tables:
        """Make the data of an approach at a point. Raises Stopped."""
        recipe, wanted, needs = self.recipe(point), approach.wanted, approach.needs
        if wanted.form in DATABASES:
            return self.databases.at(needs.at, wanted.form).ensure(
                recipe,
                wanted.form,
                keys=needs.keys,
                indexes=needs.indexes,
                progress=progress,
                stopped=stopped,
            )
        if needs.session:
            # Whether it starts is told before the first run.
            self.spark.start(needs.at)
        if needs.session and self.spark.cluster(needs.at).storage:
            records = self.store.root.with_name("spark-made")
            there = store_at(self.spark, needs.at, records)
            tables = list(recipe.tables)
            return dict(there.ensure(recipe, tables, wanted, progress=progress, stopped=stopped))
        return {
            table: self.store.ensure(
                recipe, table, wanted, workers=self._workers, progress=progress, stopped=stopped
            )
            for table in recipe.tables
        }

    def tables(self, point: Point, approach: Approach) -> Tables:
        """What an approach finds at a point, once all is made. Raises NotAvailable where its engine
        is not installed, or that is on what did not start."""
        if approach.engine in self._engines_lacking:
            raise self._engines_lacking[approach.engine]
        place = _place_of_data(point, approach)
        if place in self._lacking:
            raise self._lacking[place]
        return self._made[place]

    def with_server(self, what: Callable[[], Done]) -> Done:
        """Do something; once more where the private server ended before or in it."""
        try:
            return what()
        except Exception as error:
            if not _lost_its_server(error):
                raise
            if not self.databases.revive():
                raise
            log.warning("the private server had ended and was started again")
            return what()


def _lost_its_server(error: Exception) -> bool:
    """Whether an error is a driver's, of the kind that the database API for Python (PEP 249) has
    for what is not the caller's doing."""
    names = {kind.__name__ for kind in type(error).__mro__}
    return bool(names & {"OperationalError", "InterfaceError"})


def _place_of_data(point: Point, approach: Approach) -> DataPlace:
    """What decides which data an approach finds at a point."""
    needs = approach.needs
    return point_name(point), approach.wanted, tuple(needs.keys), tuple(needs.indexes), needs.at


def _records(made: Tables) -> Iterable[MadeTable]:
    if isinstance(made, Loaded):
        return made.records()
    return (table.record() for table in made.values())


def _engines_lacking(approaches: Sequence[Approach]) -> dict[str, NotAvailable]:
    """The engines that are not installed, by name: their lanes are told so as their runs come.
    Raises NotAvailable where none is installed."""
    lacking = {}
    for approach in approaches:
        state = state_of(ENGINES[approach.engine])
        if not state.installed:
            lacking[approach.engine] = NotAvailable(
                f"The engine {state.name} is not installed here "
                f"({', '.join(state.missing)} missing).",
                where=f"approach {approach.id}",
                hint=state.lack,
            )
    if approaches and all(approach.engine in lacking for approach in approaches):
        raise next(iter(lacking.values()))
    return lacking


def _check_cores(plan: Plan) -> None:
    there = len(os.sched_getaffinity(0))
    if plan.cores and plan.cores > there:
        raise BadInput(
            f"Runs cannot be pinned to {plan.cores} cores: there are {there}.",
            where="cores",
            hint=f"Ask for {there} at the most, or leave the choice of cores to the system.",
        )
