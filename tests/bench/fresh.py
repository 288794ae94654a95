"""python -m tests.bench.fresh: the package in a new environment, used by an ordinary user.

Builds the wheel, takes the steps of the container's image (without the system's packages, which are
here), then runs a demo and serves the application as a user who owns nothing else, and walks to a
finding in a browser. Says what took how long; fails where something does not work.
"""

import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from tests.support.browser import Browser
from tests.support.installed import ROOT, installed

_USER = 65_534
"""Debian's nobody: an account that the system knows, as PostgreSQL wants it."""

_LIMIT_S = 900.0
_SYSTEM = "/usr/bin:/bin:/usr/sbin:/sbin"


def told(what: str, since: float) -> None:
    """Print how long a step took."""
    print(f"{what}: {time.monotonic() - since:.1f} s", flush=True)


def main() -> None:
    """Take all steps."""
    folder = Path(tempfile.mkdtemp(prefix="ivrell-fresh-"))
    folder.chmod(0o755)
    home = folder / "home"
    home.mkdir()
    as_user = []
    if os.geteuid() == 0:
        os.chown(home, _USER, _USER)
        as_user = ["setpriv", f"--reuid={_USER}", f"--regid={_USER}", "--clear-groups"]
    env = {"PATH": _SYSTEM, "HOME": str(home), "LANG": "C.UTF-8", "IVRELL_DATA": f"{home}/data"}

    def run(*command: str, **more: object) -> str:
        done = subprocess.run(
            [*as_user, *command], env=env, cwd=home, capture_output=True, text=True,
            timeout=_LIMIT_S, stdin=subprocess.DEVNULL,
        )  # fmt: skip
        if done.returncode:
            sys.exit(f"{command}: {done.returncode}\n{done.stdout[-3000:]}{done.stderr[-3000:]}")
        return done.stdout

    began = time.monotonic()
    installed(folder)
    told("the wheel is built", began)
    began = time.monotonic()
    place = folder / "environment"
    subprocess.run(
        ["bash", str(ROOT / "tools/image.sh"), str(folder), str(place)], check=True,
        # The system's interpreter, which every account may start.
        env={**os.environ, "IVRELL_IMAGE_SYSTEM": "no", "PATH": _SYSTEM}, timeout=_LIMIT_S,
    )  # fmt: skip
    told("the image's steps are done", began)
    ivrell = str(place / "bin" / "ivrell")
    began = time.monotonic()
    demo = next(place.glob("lib/*/site-packages/ivrell/demo/tolls-per-lock.toml"))
    small = ["--rounds", "3", "--set", "rows=20000", "--out", "found"]
    print(run(ivrell, "run", str(demo), *small).strip().splitlines()[0])
    told("a demo was run", began)
    print(run(ivrell, "help", "tutorial").strip().splitlines()[0].strip())

    began = time.monotonic()
    log = home / "said"
    with log.open("w") as said:
        serving = subprocess.Popen(
            [*as_user, ivrell, "serve"], env=env, cwd=home, stdout=said, stderr=said,
            stdin=subprocess.DEVNULL,
        )  # fmt: skip
    browser = None
    try:
        while not (found := re.search(r"http\S+/enter/\S+", log.read_text())):
            if serving.poll() is not None or time.monotonic() - began > _LIMIT_S:
                sys.exit(f"it was not served: {log.read_text()}")
            time.sleep(0.2)
        told("it is served", began)
        began = time.monotonic()
        browser = Browser()
        browser.open(found[0])
        (number,) = [one["id"] for one in browser.fetch("/api/comparisons/")
                     if one["name"] == "Tolls per lock"]  # fmt: skip
        assert browser.launch(number, {"rounds": 3, "knobs": {"rows": [20_000]}}) == 201
        address = found[0].split("/enter/")[0]
        while browser.fetch("/api/now/")["trial"] or not browser.fetch(
            f"/api/trials/?comparison={number}"
        ):
            time.sleep(1)
        browser.open(f"{address}/comparisons/{number}/findings")
        words = browser.until(
            lambda: next(
                (p.text for p in browser.all("p, h2")
                 if re.search("is the quickest|not told apart|lowest median", p.text)), None,
            )
        )  # fmt: skip
        print(words)
        told("from the link to a finding", began)
    finally:
        if browser:
            browser.close()
        serving.terminate()
        serving.wait(60)
        shutil.rmtree(folder, ignore_errors=True)


if __name__ == "__main__":
    main()
