#!/usr/bin/env bash
# Publishes the schemas of the API and of the comparison file, and makes the typed client.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
.venv/bin/python -m ivrell.server.manage spectacular --fail-on-warn --file docs/api/openapi.yaml
.venv/bin/python -m tools.file_schema >docs/comparison.schema.json
.venv/bin/python -m tools.file_schema bundle >docs/bundle.schema.json
.venv/bin/python -m tools.file_schema output >docs/output.schema.json
.venv/bin/python -m tools.page_facts >web/src/api/facts.ts
cd web && npm run --silent schema && npx prettier --log-level warn --write src/api/facts.ts
