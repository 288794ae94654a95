"""What Apache Spark needs on this machine. Standard library only.

pyspark does not work with the pandas that Ivrell itself uses: sessions get an older one, which lies
in a folder of its own and stands before the other for them alone.
"""

import os
import shutil
import subprocess
import sys
from functools import lru_cache
from pathlib import Path

from ivrell.core.base.folders import package_folder

JAVA = "openjdk-17-jre-headless"
INSTALL = f"pip install 'ivrell[spark]' and apt-get install {JAVA}, or ./start --with spark"
PANDAS = Path(sys.prefix) / "spark-pandas"
"""Where the older pandas lies."""

PANDAS_VERSION = "2.3.3"
JVM = "-XX:-UsePerfData -XX:-UseContainerSupport"
"""Options of every JVM: the control groups that it looks for are not seen in a sandbox, and heaps
and cores are set for it anyway."""

NO_PANDAS = (
    f"pandas on Spark needs pandas {PANDAS_VERSION.split('.')[0]}: pip install --no-deps --target "
    f"spark-pandas 'pandas=={PANDAS_VERSION}' pytz, in the folder of Ivrell's environment"
)


_LOGGING = """rootLogger.level = {level}
rootLogger.appenderRef.stderr.ref = console
appender.console.type = Console
appender.console.name = console
appender.console.target = SYSTEM_ERR
appender.console.layout.type = PatternLayout
appender.console.layout.pattern = %p %c{{1}}: %m%n%ex
"""


def configured(folder: Path, level: str) -> Path:
    """A folder of Spark's configuration, in which it says what is of a level or above, on standard
    error and in a line each."""
    folder.mkdir(exist_ok=True)
    (folder / "log4j2.properties").write_text(_LOGGING.format(level=level))
    return folder


def java() -> str | None:
    """Path of the Java that Spark starts, or None."""
    if home := os.environ.get("JAVA_HOME"):
        found = Path(home) / "bin" / "java"
        return str(found) if found.exists() else None
    return shutil.which("java")


@lru_cache(maxsize=1)
def java_version() -> str | None:
    """Its version, or None where there is no Java."""
    path = java()
    if path is None:
        return None
    try:
        told = subprocess.run([path, "-version"], capture_output=True, text=True, timeout=30)
    except (OSError, subprocess.TimeoutExpired):
        return None
    first = told.stderr.splitlines()[:1] or [""]
    return first[0].partition('"')[2].partition('"')[0] or None


def spark_home() -> Path:
    """The folder of Spark's own programs. Raises ImportError where it is not installed."""
    from importlib.util import find_spec

    found = find_spec("pyspark")
    if found is None or found.origin is None:
        raise ImportError("pyspark")
    return Path(found.origin).parent


def python_path() -> str:
    """What Python workers of Spark find packages by, before their own: pandas and Ivrell."""
    ours = str(package_folder().parent)
    return os.pathsep.join([*([str(PANDAS)] if PANDAS.exists() else []), ours])
