"""What engines share whose approaches are SQL. Standard library only."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any, Generic, Literal, Protocol, TypeVar

from ivrell.core.engines.base import Approach, Needs
from ivrell.core.engines.explain import is_explained
from ivrell.core.engines.sql_text import Statement, statements
from ivrell.core.records.wire import Counted, Job, StatementPlan, Step
from ivrell.core.tasks.buckets import in_buckets
from ivrell.core.tasks.task import ApproachFailed, Stage, Task

if TYPE_CHECKING:
    import pyarrow as pa


@dataclass(frozen=True, kw_only=True)
class SqlApproach(Approach):
    """SQL whose last statement gives the answer; ``setup`` and ``teardown`` are untimed, run
    before and after each call, which has a session of its own then.

    ``answer`` is a query that reads the answer untimed, after statements that write;
    ``buckets`` are several by name, whose rows together are the answer.
    ``delivery`` says whether the rows of the answer are fetched inside the clock ("rows") or
    only computed there and counted ("discard"). Of loaded tables ``keys`` and ``indexes`` name
    columns as in ``passages(lock)``; an approach that ``writes`` finds them anew before each
    call. ``settings`` are the engine's own, set untimed.
    """

    code: str
    setup: str = ""
    teardown: str = ""
    answer: str = ""
    buckets: Mapping[str, str] = field(default_factory=dict)
    delivery: Literal["rows", "discard"] = "rows"
    keys: tuple[str, ...] = ()
    indexes: tuple[str, ...] = ()
    writes: bool = False
    settings: Mapping[str, str | int | float | bool] = field(default_factory=dict)

    def text(self) -> str:
        return self.code

    @property
    def needs(self) -> Needs:
        return Needs(self.keys, self.indexes, self.writes, self.setup)


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
        self._reads = queries_for_answer(job, mark)
        self.hands_over_as_is = not self._reads
        self.writes = bool(approach.get("writes"))
        self.renews = self.writes or bool(self._setup)
        if not self._code:
            raise ApproachFailed("no answer", "There is no statement in the code. Write a SELECT.")

    def execute(self, statement: Statement, fetch: bool = False) -> object:
        """Run one statement; its rows in the engine's own way when asked.

        Raises ApproachFailed with the line.
        """
        raise NotImplementedError

    def connect(self) -> None:
        """Open the session that statements run in, on the run's tables."""
        raise NotImplementedError

    def disconnect(self) -> None:
        """Close that session."""
        raise NotImplementedError

    def put_back(self, restore: Callable[[], None]) -> None:
        """Bring the run's own tables back to what they were, while no session is open."""
        restore()

    def open(self) -> None:
        """Connect, and run the untimed statements before the clock."""
        self.connect()
        for statement in self._setup:
            self.execute(statement)

    def renew(self, restore: Callable[[], None]) -> None:
        self.tear_down()
        self.disconnect()
        if self.writes:
            self.put_back(restore)
        self.open()

    def close(self) -> None:
        self.tear_down()
        self.disconnect()

    def run(self, stage: Stage) -> object:
        named = any(statement.stage for statement in self._code)
        answer: object = None
        for position, statement in enumerate(self._code):
            with stage((statement.stage or "first") if named else "query"):
                last = position == len(self._code) - 1 and not self._reads
                answer = self.execute(statement, fetch=last)
        return answer

    def explain(self, statement: Statement) -> Step:
        """Run one statement that engines explain, and give its plan. Raises ApproachFailed."""
        raise NotImplementedError

    def explained(self) -> list[StatementPlan]:
        plans = []
        for statement in self._code:
            plan = None
            if is_explained(statement.text):
                plan = self.explain(statement)
            else:
                self.execute(statement)
            plans.append(StatementPlan(statement.text, statement.line, plan))
        return plans

    def hand_over(self, answer: object) -> "pa.Table":
        """The rows that the clock saw, or those that ``answer`` or the buckets read now."""
        if not self._reads:
            return super().hand_over(answer)
        self.discard = False

        def read(query: Statement) -> "pa.Table":
            return super(SqlTask, self).hand_over(self.execute(query, fetch=True))

        return read_together(self._reads, read)

    def tear_down(self) -> None:
        """Run the untimed statements after a call."""
        for statement in self._teardown:
            self.execute(statement)

    def values(self, statement: Statement) -> dict[str, Any]:
        """Values of the knobs that a statement binds."""
        return {name: self.knobs[name] for name in statement.bound}


class ServerSession(Protocol):
    """A session on a server's database, and what the server counts of it."""

    def executed(self, statement: Statement, knobs: Mapping[str, Any], *, fetch: bool) -> object:
        """Run one statement; its rows when asked. Raises ApproachFailed with the line."""

    def begin(self) -> None:
        """Look at the counters before the clock starts."""

    def since(self) -> Counted:
        """What was counted since then."""

    def close(self) -> None:
        """Close the session."""


Session = TypeVar("Session", bound=ServerSession)


class SessionTask(SqlTask, Generic[Session]):
    """Statements in a session on a server.

    Args:
        opened: opens one.
    """

    def __init__(self, job: Job, mark: str, opened: Callable[[Job], Session]) -> None:
        super().__init__(job, mark)
        self._job, self._opened = job, opened
        self.open()

    def connect(self) -> None:
        self.session = self._opened(self._job)

    def disconnect(self) -> None:
        self.session.close()

    def before_each(self) -> None:
        self.session.begin()

    def execute(self, statement: Statement, fetch: bool = False) -> object:
        if fetch and self.discard:
            statement = replace(statement, text=counted(statement.text))
        return self.session.executed(statement, self.knobs, fetch=fetch)

    def counted(self) -> Counted:
        return self.session.since()


def queries_for_answer(job: Job, mark: str) -> dict[str, Statement]:
    """The queries that read an answer untimed, by bucket; one of no name for a whole answer.

    Raises ApproachFailed where one of them is more than a query.
    """
    asked = job.approach.get("buckets") or {"": job.approach.get("answer", "")}
    found: dict[str, Statement] = {}
    for bucket, text in asked.items():
        read = statements(text, job.knobs, mark=mark)
        if len(read) > 1:
            where = f"The bucket {bucket}" if bucket else "`answer`"
            raise ApproachFailed("more than one answer", f"{where} holds more than one query.")
        if read:
            found[bucket] = read[0]
    return found


def read_together(
    reads: Mapping[str, Statement], read: Callable[[Statement], "pa.Table"]
) -> "pa.Table":
    """The answer that such queries read."""
    found = {bucket: read(query) for bucket, query in reads.items()}
    return found[""] if "" in found else in_buckets(found)


def counted(text: str) -> str:
    """A query that computes all rows of another and sends their number alone."""
    return f"SELECT count(*) AS rows FROM ({text}) AS answer"
