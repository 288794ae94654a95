"""What engines share whose approaches are SQL. Standard library only."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

from ivrell.core.engines.base import Approach, ApproachFailed, Job, Stage, Task
from ivrell.core.engines.sql_text import Statement, statements


@dataclass(frozen=True, kw_only=True)
class SqlApproach(Approach):
    """SQL whose last statement gives the answer; ``setup`` and ``teardown`` are untimed.

    ``answer`` is a query that reads the answer untimed, after statements that write.
    ``delivery`` says whether the rows of the answer are fetched inside the clock ("rows") or
    only computed there and counted ("discard"). Of loaded tables ``keys`` and ``indexes`` name
    columns as in ``passages(lock)``; an approach that ``writes`` finds them anew before each
    run. ``settings`` are the engine's own, set untimed.
    """

    code: str
    setup: str = ""
    teardown: str = ""
    answer: str = ""
    delivery: Literal["rows", "discard"] = "rows"
    keys: tuple[str, ...] = ()
    indexes: tuple[str, ...] = ()
    writes: bool = False
    settings: Mapping[str, str | int | float | bool] = field(default_factory=dict)

    def text(self) -> str:
        return self.code


class SqlTask(Task):
    """An approach's statements, stage by stage; subclasses execute them.

    Args:
        mark: how the engine marks a value bound by name, such as ``$``; "" numbers them.
    """

    def __init__(self, job: Job, mark: str) -> None:
        self.knobs = job.knobs
        approach = job.approach
        self.discard = approach.get("delivery") == "discard"
        self._code = statements(approach["code"], job.knobs, mark=mark)
        self._setup = statements(approach.get("setup", ""), job.knobs, mark=mark)
        self._teardown = statements(approach.get("teardown", ""), job.knobs, mark=mark)
        read = statements(approach.get("answer", ""), job.knobs, mark=mark)
        self._read = read[-1] if read else None
        if not self._code:
            raise ApproachFailed("no answer", "There is no statement in the code. Write a SELECT.")
        if len({statement.text for statement in read}) > 1:
            raise ApproachFailed("more than one answer", "`answer` holds more than one query.")

    def execute(self, statement: Statement, fetch: bool = False) -> object:
        """Run one statement; its rows in the engine's own way when asked.

        Raises ApproachFailed with the line.
        """
        raise NotImplementedError

    def set_up(self) -> None:
        """Run the untimed statements before the clock; called once connected."""
        for statement in self._setup:
            self.execute(statement)

    def run(self, stage: Stage) -> object:
        named = any(statement.stage for statement in self._code)
        answer: object = None
        for position, statement in enumerate(self._code):
            with stage((statement.stage or "first") if named else "query"):
                last = position == len(self._code) - 1 and self._read is None
                answer = self.execute(statement, fetch=last)
        return answer

    def read_answer(self, answer: object) -> object:
        """The rows that the clock saw, or those that ``answer`` reads now."""
        return self.execute(self._read, fetch=True) if self._read else answer

    def tear_down(self) -> None:
        """Run the untimed statements after everything."""
        for statement in self._teardown:
            self.execute(statement)

    def values(self, statement: Statement) -> dict[str, Any]:
        """Values of the knobs that a statement binds."""
        return {name: self.knobs[name] for name in statement.bound}


def counted(text: str) -> str:
    """A query that computes all rows of another and sends their number alone."""
    return f"SELECT count(*) AS rows FROM ({text}) AS answer"
