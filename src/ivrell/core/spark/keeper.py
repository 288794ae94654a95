"""Starts a master and workers of Spark, and ends them with itself: ``python keeper.py SPARK_HOME
WORKERS CORES MEMORY FOLDER PYTHON_PATH JVM_OPTIONS``. Standard library only; run by path.

It says the master's address on standard output once all workers have registered, and ends when its
standard input ends.
"""

import ctypes
import os
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path

_HOST = "127.0.0.1"
_START_S = 80.0
_PR_SET_PDEATHSIG, _PR_SET_CHILD_SUBREAPER = 1, 36


def _with_parent() -> None:
    """In a child: end when the keeper does, however that comes about."""
    ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL, 0, 0, 0)


def _free_port() -> int:
    with socket.socket() as probe:
        probe.bind((_HOST, 0))
        return int(probe.getsockname()[1])


def main(
    home: str, workers: int, cores: str, memory: str, place: str, python_path: str, jvm: str
) -> int:
    """Keep the cluster until standard input ends."""
    # Orphans of its workers stay below it, so that what they use is seen, and end with it.
    ctypes.CDLL(None).prctl(_PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0)
    folder = Path(place)
    # They hand out work and do none: what compiles and collects for them is to take little.
    little = "-XX:TieredStopAtLevel=1 -XX:+UseSerialGC"
    java = f"{jvm} {little} -Dspark.master.rest.enabled=false -Dspark.ui.enabled=false"
    environment = {
        **os.environ,
        "SPARK_HOME": home,
        "SPARK_CONF_DIR": str(folder / "conf"),
        "SPARK_LOCAL_IP": _HOST,
        "SPARK_NO_DAEMONIZE": "1",
        "SPARK_DAEMON_MEMORY": "256m",
        "SPARK_DAEMON_JAVA_OPTS": java,
        "SPARK_LOCAL_DIRS": str(folder / "tmp"),
        "PYSPARK_PYTHON": sys.executable,
        "PYTHONPATH": python_path,
    }
    run = str(Path(home) / "bin" / "spark-class")
    port = _free_port()
    master = f"spark://{_HOST}:{port}"

    def start(name: str, *words: str) -> subprocess.Popen:  # type: ignore[type-arg]
        with (folder / f"{name}.log").open("wb") as log:
            return subprocess.Popen(
                [run, *words], env=environment, stdin=subprocess.DEVNULL, stdout=log, stderr=log,
                preexec_fn=_with_parent,
            )  # fmt: skip

    package = "org.apache.spark.deploy"
    started = [
        start(
            "master", f"{package}.master.Master", "-h", _HOST, "-p", str(port), "--webui-port", "0"
        )
    ]
    for number in range(workers):
        own = folder / f"worker-{number + 1}"
        own.mkdir(exist_ok=True)
        started.append(
            start(
                own.name, f"{package}.worker.Worker", "-c", cores, "-m", memory, "-h", _HOST,
                "--webui-port", "0", "-d", str(own), master,
            )
        )  # fmt: skip
    deadline = time.monotonic() + _START_S
    while _registered(folder, workers) < workers:
        if time.monotonic() > deadline or any(one.poll() is not None for one in started):
            for log in folder.glob("*.log"):
                sys.stderr.write(log.read_text(errors="replace")[-2000:])
            _end(started)
            return 1
        time.sleep(0.1)
    print(master, flush=True)
    sys.stdin.read()
    _end(started)
    return 0


def _registered(folder: Path, workers: int) -> int:
    """Workers that say that the master knows them."""
    return sum(
        "Successfully registered with master"
        in (folder / f"worker-{number + 1}.log").read_text(errors="replace")
        for number in range(workers)
    )


def _end(started: list) -> None:  # type: ignore[type-arg]
    """End all processes: workers end their executors first."""
    for one in reversed(started):
        one.terminate()
    deadline = time.monotonic() + 5
    for one in started:
        try:
            one.wait(max(0.1, deadline - time.monotonic()))
        except subprocess.TimeoutExpired:
            one.kill()
    for pid in _below(os.getpid()):
        try:
            os.kill(pid, signal.SIGKILL)
        except ProcessLookupError:
            pass


def _below(pid: int) -> list:  # type: ignore[type-arg]
    """Children of a process, and theirs."""
    try:
        told = Path(f"/proc/{pid}/task/{pid}/children").read_text().split()
    except OSError:
        return []
    found = [int(child) for child in told]
    return [*found, *(one for child in found for one in _below(child))]


if __name__ == "__main__":
    sys.exit(main(sys.argv[1], int(sys.argv[2]), *sys.argv[3:8]))
