"""Fails when the typed client differs from what the published schema would make."""

import subprocess
import sys
from pathlib import Path

WEB = Path(__file__).resolve().parents[2] / "web"

made = subprocess.run(
    ["node_modules/.bin/openapi-typescript", "../docs/api/openapi.yaml"],
    cwd=WEB,
    capture_output=True,
    text=True,
    check=True,
).stdout
if made != (WEB / "src" / "api" / "schema.d.ts").read_text():
    sys.exit("web/src/api/schema.d.ts is not made from docs/api/openapi.yaml: run tools/schema.sh")
