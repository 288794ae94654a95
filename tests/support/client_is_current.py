"""Fails when the typed client differs from what the published schema would make."""

import subprocess
import sys
from pathlib import Path

WEB = Path(__file__).resolve().parents[2] / "web"

# By the script that makes it, so that both are made alike.
done = subprocess.run(["npm", "run", "--silent", "schema", "--", "--check"], cwd=WEB)
if done.returncode:
    sys.exit("web/src/api/schema.d.ts is not made from docs/api/openapi.yaml: run tools/schema.sh")
