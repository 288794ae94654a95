"""A standalone cluster of Apache Spark that Ivrell starts on this machine: a real master, real
workers, bounded, on loopback alone, and nothing left behind when it ends."""

import shutil
import subprocess
import sys
import time
from pathlib import Path

from ivrell.core.base.errors import NotAvailable, Stopped
from ivrell.core.base.folders import data_folder
from ivrell.core.base.quantities import format_seconds
from ivrell.core.base.waits import WantedStop, end, first_line, never
from ivrell.core.contain.calls import Filter, compiled
from ivrell.core.contain.environment import scrubbed_environment
from ivrell.core.contain.sandbox import OURS, Sandbox, give, innermost, let_pass, why_not
from ivrell.core.spark.clusters import SparkCluster
from ivrell.core.spark.install import JVM, configured, python_path, spark_home

_START_S = 90.0
_END_S = 10.0
_KEEPER = Path(__file__).with_name("keeper.py")


class StandaloneCluster:
    """A running cluster.

    It is a tree of processes below a keeper, which starts master and workers and ends when its
    standard input does. Where sandboxes work it is in one, with a network of its own that only
    runs are let into which have their session there; else it listens on loopback.

    Args:
        cluster: how many workers, of which size.
        folder: its own, for its files.
        shown: folders that it reads, such as made data.
        wanted_stop: asked while it starts.
    """

    def __init__(
        self,
        cluster: SparkCluster,
        folder: Path,
        shown: tuple[str, ...] = (),
        wanted_stop: WantedStop = never,
    ) -> None:
        self._folder = folder
        shutil.rmtree(folder, ignore_errors=True)
        (folder / "tmp").mkdir(parents=True)
        # At which the master and its workers say that they know each other.
        configured(folder / "conf", "info")
        self.storage = Path(cluster.storage) if cluster.storage.startswith("/") else folder / "left"
        self.storage.mkdir(exist_ok=True)
        command = [
            sys.executable, "-I", str(_KEEPER), str(spark_home()), str(cluster.workers),
            str(cluster.worker_cores), cluster.worker_memory, str(folder), python_path(),
            JVM,
        ]  # fmt: skip
        self.sandboxed = why_not() is None
        if self.sandboxed:
            give(folder)
            for place in shown:
                let_pass(Path(place))
            sandbox = Sandbox(
                folder, compiled(Filter.RUN), ours=OURS, inputs=shown,
                hidden=(str(data_folder()),), joined=True, writable=(str(self.storage),),
            )  # fmt: skip
            command = sandbox.around(command)
        self._log = (folder.with_suffix(".log")).open("wb")
        self._process = subprocess.Popen(
            command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=self._log,
            env=scrubbed_environment(folder), start_new_session=True,
        )  # fmt: skip
        try:
            self.master = self._told(wanted_stop)
        except Stopped:
            self.stop()
            raise
        self.pid = innermost(self._process.pid)
        """The process that all others of the cluster hang below."""

    def _told(self, wanted_stop: WantedStop) -> str:
        """The master's address, once all workers are there. Raises BadInput, Stopped."""
        assert self._process.stdout
        began = time.monotonic()
        told = first_line(self._process.stdout, _START_S, "a cluster of Spark", wanted_stop)
        line = (told or b"").decode(errors="replace").strip()
        if not line.startswith("spark://"):
            said = self._folder.with_suffix(".log").read_text(errors="replace").strip()
            self.stop()
            waited = format_seconds(time.monotonic() - began)
            raise NotAvailable(
                f"The cluster did not start within {waited}: {_reason(said)}",
                where="at",
                hint="Run ./ivrell engines to see whether Spark is whole here.",
            )
        return line

    @property
    def alive(self) -> bool:
        """Whether it runs."""
        return self._process.poll() is None

    def stop(self) -> None:
        """End it, with all that its processes started."""
        if self._process.stdin:
            self._process.stdin.close()
        end(self._process, _END_S)
        if self._process.stdout:
            self._process.stdout.close()
        self._log.close()
        self._folder.with_suffix(".log").unlink(missing_ok=True)
        shutil.rmtree(self._folder, ignore_errors=True)


_LONGEST_REASON = 200


def _reason(said: str) -> str:
    """What the last line of a log says that names an error, or else the last line."""
    lines = [line.strip() for line in said.splitlines() if line.strip()]
    named = [line for line in lines if "Exception" in line or "rror" in line]
    last = (named or lines or ["it said nothing"])[-1]
    return last if len(last) <= _LONGEST_REASON else f"{last[:_LONGEST_REASON]}…"
