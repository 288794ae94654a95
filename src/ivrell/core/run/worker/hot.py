"""Where a lane's time and memory go, by sampling: which line of it runs, or has called what runs.

A thread looks at all threads every few milliseconds. What went by since it last looked is told to
where they are now: for code that holds the interpreter for long, such as a sort in C, that is the
line that called it. The interpreter lets itself be looked at only at calls and at the ends of
loops, so that lines without either are told together with the one that follows; ``together`` says
which. Standard library only; other interpreters load it too, from Python 3.9 on.
"""

from __future__ import annotations

import dis
import json
import os
import random
import resource
import sys
import threading
import time
import types
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from pathlib import Path

from ivrell.core.records.wire import HotFrame, HotProfile

PERIOD_S = 0.004
_FLUSH_S = 0.1
_LATE_S = 0.02
_DEEPEST = 60
_MOST_FRAMES = 900
_SWITCH_S = 0.00002
_SWITCH_OF_MANY_S = 0.001
"""For how long a thread may keep the interpreter while the sampler waits for it: next to nothing,
for whoever gives it up within that time (a read, a wait) would be seen far too often; longer where
threads of the lane wait for each other too, whom it would slow down."""

_FOLDER = ".hot"
_ASKED = "IVRELL_HOT"
_LOOKED_AT = ("CALL", "PRECALL", "JUMP_BACKWARD", "JUMP_ABSOLUTE", "RESUME", "SEND")
"""Instructions after which the interpreter hands over to other threads, the sampler among them."""

_Key = tuple[int, str, int]
"""A frame: that above it (-1 for none), what it is, and the lane's line, 0 for other code."""


class Tree:
    """Call stacks with what was spent in each."""

    def __init__(self) -> None:
        self._known: dict[_Key, int] = {}
        self.frames: list[HotFrame] = []

    def node(self, above: int, what: str, line: int) -> int:
        """The number of a frame below another."""
        key = (above, what, line)
        number = self._known.get(key)
        if number is None:
            number = self._known[key] = len(self.frames)
            self.frames.append(HotFrame(above, what, line))
        return number

    def add(self, number: int, elapsed_s: float, cpu_s: float, grown: float = 0.0) -> None:
        """What was spent in a frame itself."""
        frame = self.frames[number]
        frame.elapsed_s += elapsed_s
        frame.cpu_s += cpu_s
        frame.grown_bytes += grown

    def take(self, frames: list[HotFrame], above: int) -> None:
        """Frames of another process, below one of these."""
        numbers: list[int] = []
        for frame in frames:
            parent = above if frame.above < 0 else numbers[frame.above]
            numbers.append(self.node(parent, frame.what, frame.line))
            self.add(numbers[-1], 0.0, frame.cpu_s)

    def pruned(self) -> list[HotFrame]:
        """Those that matter: what is least is told to the one above it."""
        heavy = list(range(len(self.frames)))
        if len(heavy) > _MOST_FRAMES:
            whole = [frame.elapsed_s + frame.cpu_s for frame in self.frames]
            for number in range(len(whole) - 1, -1, -1):
                if self.frames[number].above >= 0:
                    whole[self.frames[number].above] += whole[number]
            least = sorted(whole, reverse=True)[_MOST_FRAMES]
            heavy = [number for number in heavy if whole[number] > least]
        places: dict[int, int] = {}
        kept: list[HotFrame] = []
        for number, frame in enumerate(self.frames):
            above = places.get(frame.above, -1)
            if number in set(heavy) or above < 0:
                places[number] = len(kept)
                kept.append(HotFrame(above, frame.what, frame.line))
            else:
                places[number] = above
            into = kept[places[number]]
            into.elapsed_s += frame.elapsed_s
            into.cpu_s += frame.cpu_s
            into.grown_bytes += frame.grown_bytes
        return kept


class Sampler:
    """Looks at the threads of this process.

    Args:
        sources: file names of the lane's code.
        main: the thread that answers; its time is what goes by.
    """

    def __init__(self, sources: frozenset[str], main: int) -> None:
        self.tree = Tree()
        self.samples = 0
        self.native_s = 0.0
        self._sources = sources
        self._main = main
        self._ends = threading.Event()
        self._thread = threading.Thread(target=self._look, name="ivrell-hot", daemon=True)
        self._used: dict[int, float] = {}
        self._highest = 0.0
        self._left = 0.0
        self._told: dict[int, int] = {}
        self._begun: dict[types.CodeType, int] = {}
        self.flush: Path | None = None

    def start(self) -> None:
        """Begin to look."""
        self._thread.start()

    def stop(self) -> None:
        """Look no more."""
        self._ends.set()
        self._thread.join(5)
        for known in self._told.values():
            os.close(known)

    def _look(self) -> None:
        last, process = time.perf_counter(), time.process_time()
        self._highest = _resident()
        flushed = last
        self._threads()
        while not self._ends.is_set():
            # Not in step with what a lane itself does regularly.
            time.sleep(random.uniform(0.5, 1.5) * PERIOD_S)
            stacks = {
                ident: self._stack(frame)
                for ident, frame in sys._current_frames().items()
                if ident != threading.get_ident()
            }
            now, used = time.perf_counter(), time.process_time()
            sys.setswitchinterval(_SWITCH_S if len(stacks) < 2 else _SWITCH_OF_MANY_S)
            self._tell(stacks, now - last, used - process)
            last, process = now, used
            if self.flush is not None and now - flushed > _FLUSH_S:
                flushed = now
                _write(self.flush, self.tree.frames)

    def _tell(self, stacks: Mapping[int, int], elapsed: float, used: float) -> None:
        self.samples += 1
        by_thread = self._threads()
        main = stacks.get(self._main)
        for ident, stack in stacks.items():
            cpu = by_thread.get(ident, 0.0)
            used -= cpu
            self.tree.add(stack, elapsed if ident == self._main else 0.0, cpu)
        used -= by_thread.get(threading.get_ident(), 0.0)
        # What is left was used by threads of libraries, which have no line: for who called them.
        self._left += used
        if main is not None:
            native = 0.0
            # A thread's own clock may be some milliseconds late: what it owes comes out even.
            if self._left > _LATE_S:
                native, self._left = self._left, 0.0
            self.native_s += native
            resident = _resident()
            self.tree.add(main, 0.0, native, max(0.0, resident - self._highest))
            self._highest = max(self._highest, resident)

    def _threads(self) -> dict[int, float]:
        """CPU seconds of each of the interpreter's threads since the last time.

        What waits for the system lets other threads go on, and gets its turn again only
        milliseconds later: so few system calls of that kind are made as can be.
        """
        found = {}
        for thread in threading.enumerate():
            ident = thread.ident
            if ident is None:
                continue
            with suppress(OSError, ValueError, IndexError):
                # The system gives the idents of threads that ended to others.
                native = int(getattr(thread, "native_id", 0) or 0)
                if ident in (self._main, threading.get_ident()):
                    used = time.clock_gettime(time.pthread_getcpuclockid(ident))
                else:
                    used = self._used_by(native)
                # One that was not there at first has used all of it since.
                found[ident] = used - self._used.get(native, 0.0)
                self._used[native] = used
        return found

    def _used_by(self, native: int) -> float:
        """CPU seconds of a thread that may end at any time: its clock cannot be asked for."""
        known = self._told.get(native)
        if known is None:
            path = f"/proc/self/task/{native}/schedstat"
            known = self._told[native] = os.open(path, os.O_RDONLY)
        return int(os.pread(known, 64, 0).split()[0]) / 1e9

    def _line(self, frame: types.FrameType) -> int:
        """The line that a frame is at; a call that begins is at the first that does anything."""
        code, line = frame.f_code, frame.f_lineno or 0
        if line != code.co_firstlineno or code.co_name in ("<module>", "<lambda>"):
            return line
        if code not in self._begun:
            self._begun[code] = _begun(code)
        return self._begun[code]

    def _stack(self, frame: types.FrameType | None) -> int:
        """The number of a stack: from the lane's outermost frame on, where it is in the lane."""
        frames: list[types.FrameType] = []
        while frame is not None and len(frames) < _DEEPEST:
            frames.append(frame)
            frame = frame.f_back
        outermost = len(frames)
        for number, one in enumerate(frames):
            if one.f_code.co_filename in self._sources:
                outermost = number + 1
        number = -1
        for one in reversed(frames[:outermost]):
            if number < 0 and _is_own(_module(one)):
                continue
            code = one.f_code
            name = getattr(code, "co_qualname", code.co_name)
            if code.co_filename in self._sources:
                number = self.tree.node(number, name, self._line(one))
            else:
                number = self.tree.node(number, f"{_module(one)}.{name}", 0)
        return number if number >= 0 else self.tree.node(-1, "around the lane", 0)


def _begun(code: types.CodeType) -> int:
    """The first line of a function that does anything."""
    lines = (line for _, line in dis.findlinestarts(code) if line)
    return next((line for line in lines if line > code.co_firstlineno), code.co_firstlineno)


def _is_own(module: str) -> bool:
    """Whether a frame is of the process that runs lanes: who called the lane is no part of it."""
    return module in ("__main__", "threading") or module.split(".")[0] == "ivrell"


def _module(frame: types.FrameType) -> str:
    return str(frame.f_globals.get("__name__") or "?")


def _resident() -> float:
    """The most bytes that were ever resident."""
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024.0


def _write(path: Path, frames: list[HotFrame]) -> None:
    aside = path.with_suffix(".part")
    with suppress(OSError):
        aside.write_text(json.dumps([vars(frame) for frame in frames]))
        aside.replace(path)


class Watch:
    """Samples the timed parts of a run, and the processes that they start.

    Args:
        code: the lane's.
        source: the file name that it was compiled under.
        folder: of the run.
    """

    def __init__(self, code: str, source: str, folder: Path) -> None:
        self._folder = folder / _FOLDER
        self._folder.mkdir(exist_ok=True)
        self._code = code
        self._source = source
        self._sources = frozenset((source, str(folder / ".approach" / "approach.py")))
        self._sampler: Sampler | None = None
        self.profile: HotProfile | None = None
        # Processes that are started anew load what lies first on their path.
        join = "from ivrell.core.run.worker.hot import join\njoin()\n"
        root = str(Path(__file__).resolve().parents[4])
        (self._folder / "sitecustomize.py").write_text(
            f"import sys\nsys.path.append({root!r})\n{join}", encoding="utf-8"
        )
        os.environ[_ASKED] = json.dumps([str(self._folder), *self._sources])
        before = os.environ.get("PYTHONPATH")
        os.environ["PYTHONPATH"] = os.pathsep.join(filter(None, [str(self._folder), before]))
        os.register_at_fork(after_in_child=self._forked)

    def _forked(self) -> None:
        if self._sampler is not None:
            _begin(self._folder, self._sources)

    @contextmanager
    def part(self, repeats: int) -> Iterator[None]:
        """A timed part, of so many calls; the last one is told of."""
        for old in self._folder.glob("*.json"):
            old.unlink()
        sampler = self._sampler = Sampler(self._sources, threading.get_ident())
        began, process, children = time.perf_counter(), time.process_time(), _of_children()
        usual = sys.getswitchinterval()
        sys.setswitchinterval(_SWITCH_S)
        sampler.start()
        try:
            yield
        finally:
            sampler.stop()
            sys.setswitchinterval(usual)
            self._sampler = None
            elapsed = time.perf_counter() - began
            cpu = time.process_time() - process
            self.profile = self._told(sampler, repeats, elapsed, cpu, _of_children() - children)

    def _told(
        self, sampler: Sampler, repeats: int, elapsed: float, cpu: float, children: float
    ) -> HotProfile:
        seen = 0.0
        for path in sorted(self._folder.glob("*.json")):
            with suppress(OSError, ValueError, TypeError):
                frames = [HotFrame(**one) for one in json.loads(path.read_text())]
                seen += sum(frame.cpu_s for frame in frames)
                sampler.tree.take(frames, sampler.tree.node(-1, "child process", 0))
        frames = sampler.tree.pruned()
        for frame in frames:
            frame.elapsed_s /= repeats
            frame.cpu_s /= repeats
        return HotProfile(
            frames=frames,
            together=together(self._code, self._source),
            elapsed_s=elapsed / repeats,
            cpu_s=(cpu + max(children, seen)) / repeats,
            native_cpu_s=sampler.native_s / repeats,
            children_cpu_s=max(children, seen) / repeats,
            children_seen_s=seen / repeats,
            samples=sampler.samples,
            calls=repeats,
        )


def _of_children() -> float:
    told = os.times()
    return told.children_user + told.children_system


def _begin(folder: Path, sources: frozenset[str]) -> None:
    """Sample this process, which a lane has started, until it ends."""
    sampler = Sampler(sources, threading.main_thread().ident or 0)
    sampler.flush = folder / f"{os.getpid()}.json"
    sampler.start()


def join() -> None:
    """Sample this process where a lane that is watched has started it."""
    if asked := os.environ.get(_ASKED):
        folder, *sources = json.loads(asked)
        if Path(folder).is_dir():
            _begin(Path(folder), frozenset(sources))


def together(code: str, source: str) -> dict[int, int]:
    """The first of the lines that are told with a line, by that line."""
    found: dict[int, int] = {}
    waiting: list[types.CodeType] = []
    with suppress(SyntaxError, ValueError):
        waiting.append(compile(code, source, "exec"))
    while waiting:
        one = waiting.pop()
        waiting += [const for const in one.co_consts if isinstance(const, types.CodeType)]
        starts = dict(dis.findlinestarts(one))
        line: int | None = None
        since: list[int] = []
        iterated: set[int] = set()
        seen: set[int] = set()
        for step in dis.get_instructions(one):
            line = starts.get(step.offset, line) or line
            if line is None:
                continue
            if step.opname.startswith(_LOOKED_AT):
                # A loop's next value may take long, and is had without a look.
                with_it = [x for x in since if x < line and (x not in seen or x in iterated)]
                if with_it:
                    found[line] = min([*with_it, found.get(line, line)])
                seen.add(line)
                since, iterated = [], set()
                continue
            if step.opname == "FOR_ITER":
                iterated.add(line)
            if line not in since:
                since.append(line)
    return found
