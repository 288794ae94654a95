"""A session of Apache Spark in this process. Standard library only when loaded."""

from __future__ import annotations

import os
import sys
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from ivrell.core.records.wire import SparkPlace
from ivrell.core.spark.event_log import FOLDER, Tally, log_in
from ivrell.core.spark.install import JVM, PANDAS, configured, python_path

_LOOPBACK = "127.0.0.1"


def is_local(place: SparkPlace) -> bool:
    """Whether its tasks are threads of the driver's own."""
    return place.master.startswith("local")


def is_connect(place: SparkPlace) -> bool:
    """Whether the driver is elsewhere too, reached by Spark Connect."""
    return place.master.startswith("sc://")


def open_session(place: SparkPlace, folder: Path, settings: Mapping[str, str]) -> Any:
    """Open a session.

    Args:
        place: where.
        folder: of this process, for its log, its temporary files and its own configuration.
        settings: of the session; they go before those of the place.

    Returns a SparkSession of pyspark. Raises whatever pyspark raises.
    """
    if PANDAS.exists():
        sys.path.insert(0, str(PANDAS))
    if is_connect(place):
        from pyspark.sql import SparkSession

        builder = SparkSession.builder.remote(place.master)
        for name, value in {**place.settings, **settings}.items():
            builder = builder.config(name, value)
        return builder.getOrCreate()
    _environment(folder)
    from pyspark.sql import SparkSession

    builder = SparkSession.builder.master(place.master).appName("ivrell")
    for name, value in {**_usual(place, folder), **place.settings, **settings}.items():
        builder = builder.config(name, value)
    return builder.getOrCreate()


def _environment(folder: Path) -> None:
    """What the JVM and Python workers find in their environment."""
    conf = configured(folder / ".spark-conf", "error")
    (folder / FOLDER).mkdir(exist_ok=True)
    (folder / "tmp").mkdir(exist_ok=True)
    os.environ.update(
        SPARK_CONF_DIR=str(conf),
        PYSPARK_PYTHON=sys.executable,
        PYSPARK_DRIVER_PYTHON=sys.executable,
        PYTHONPATH=python_path(),
    )


def _usual(place: SparkPlace, folder: Path) -> dict[str, str]:
    """Settings of every session, unless others are asked for."""
    java = f"{JVM} -Djava.io.tmpdir={folder / 'tmp'}"
    usual = {
        "spark.ui.enabled": "false",
        "spark.ui.showConsoleProgress": "false",
        "spark.sql.session.timeZone": "UTC",
        "spark.sql.execution.arrow.pyspark.enabled": "true",
        "spark.driver.defaultJavaOptions": java,
        "spark.local.dir": str(folder / "tmp"),
        "spark.sql.warehouse.dir": str(folder / "tmp" / "warehouse"),
        "spark.eventLog.enabled": "true",
        "spark.eventLog.dir": (folder / FOLDER).as_uri(),
        "spark.eventLog.rolling.enabled": "false",
        "spark.eventLog.compress": "false",
        "spark.eventLog.buffer.kb": "1k",
        "spark.executor.processTreeMetrics.enabled": "true",
        # Where the system's own figures are not to be had, memory is looked at more often.
        "spark.executor.metrics.pollingInterval": "0" if place.seen else "1s",
        "spark.executorEnv.PYTHONPATH": python_path(),
    }
    if is_local(place):
        usual |= {"spark.driver.host": _LOOPBACK, "spark.driver.bindAddress": _LOOPBACK}
    if is_local(place) or place.settings.get("spark.driver.host") == _LOOPBACK:
        os.environ["SPARK_LOCAL_IP"] = _LOOPBACK
    return usual


class Watch:
    """What a session's own log says of it, from one moment on.

    Args:
        session: a SparkSession that was opened here.
        folder: the one that it was opened with.
    """

    def __init__(self, session: Any, folder: Path) -> None:
        self._bus = session.sparkContext._jsc.sc().listenerBus()
        path = log_in(folder)
        self.tally = Tally(path) if path else None

    def settle(self) -> None:
        """Wait until everything that happened is told, and take it in."""
        self._bus.waitUntilEmpty()
        if self.tally:
            self.tally.read()

    def begin(self) -> None:
        """Let what is counted begin here."""
        self.settle()
        if self.tally:
            self.tally.begin()
