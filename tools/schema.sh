#!/usr/bin/env bash
# Publishes the API's schema and makes the typed client from it.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
.venv/bin/python -m ivrell.server.manage spectacular --fail-on-warn --file docs/api/openapi.yaml
cd web && npm run --silent schema
