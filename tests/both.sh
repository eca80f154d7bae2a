#!/usr/bin/env bash
# All tests: those with a browser or with the whole application, which wait for much and go first where both want a core, beside
# the others, with these arguments of pytest. What the former say comes last, with pytest's own summary.
set -uo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/.."
said=$(mktemp)
.venv/bin/python -m pytest -m "browser or whole" >"$said" 2>&1 &
browser=$!
trap 'kill "$browser" 2>/dev/null; rm -f "$said"' EXIT
nice -n 10 .venv/bin/python -m pytest "$@"
fast=$?
printf '\nWith a browser:\n'
wait "$browser"
status=$?
cat "$said"
[ "$fast" -eq 0 ] && exit "$status"
exit "$fast"
