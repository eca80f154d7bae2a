#!/usr/bin/env bash
# Static checks, each quick; the first that fails ends the run.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
bin=.venv/bin
$bin/ruff check --quiet src tests bench examples docs/site
$bin/ruff format --check --quiet src tests bench examples docs/site
$bin/mypy
$bin/lint-imports --no-logo 2>/dev/null | tail -n 4
$bin/lint-imports >/dev/null
(cd web && npm run --silent check 2>&1 | grep -v 'npm warn' | tail -n 12; exit "${PIPESTATUS[0]}")
