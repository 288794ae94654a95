"""A report as PDF, by a browser where one is installed."""

import os
import shutil
import subprocess
import tempfile
from pathlib import Path

from ivrell.core.base.errors import BadInput

BROWSERS = ("chromium", "chromium-browser", "google-chrome", "microsoft-edge", "chrome")
"""Names of programs that can print a page, in the order in which they are looked for."""

_PATIENCE_S = 120.0


def browser() -> str | None:
    """The path of a browser that can print, or None."""
    return next((found for name in BROWSERS if (found := shutil.which(name))), None)


def report_pdf(html: str, to: Path) -> None:
    """Print a report to a file. Raises BadInput where there is no browser, or it does not print.

    Args:
        html: the report as a page.
        to: the file.
    """
    program = browser()
    if program is None:
        raise BadInput(
            "No browser is installed that could print the report.",
            hint=f"Install one of {', '.join(BROWSERS)}, or take the page and print that.",
        )
    with tempfile.TemporaryDirectory(prefix="ivrell-print-") as name:
        folder = Path(name)
        page, printed = folder / "report.html", folder / "report.pdf"
        page.write_text(html, encoding="utf-8")
        command = [
            program, "--headless", "--disable-gpu", f"--user-data-dir={folder / 'profile'}",
            "--no-first-run", "--host-resolver-rules=MAP * ~NOTFOUND", "--no-pdf-header-footer",
            f"--print-to-pdf={printed}", page.as_uri(),
        ]  # fmt: skip
        if os.geteuid() == 0:
            # A browser of root's has no sandbox; the page allows itself no script and no network.
            command.insert(1, "--no-sandbox")
        try:
            done = subprocess.run(
                command, capture_output=True, text=True, timeout=_PATIENCE_S, errors="replace",
                stdin=subprocess.DEVNULL, env={**os.environ, "HOME": str(folder)},
            )  # fmt: skip
        except subprocess.TimeoutExpired:
            raise BadInput(f"The browser had not printed after {_PATIENCE_S:.0f} s.") from None
        if not printed.exists():
            last = (done.stderr.strip().splitlines() or [f"status {done.returncode}"])[-1]
            raise BadInput(f"The browser did not print the report: {last[:300]}")
        shutil.copyfile(printed, to)
