"""The command `watch`: a growing file or standard input judged as its bins complete, going on from a state after a restart."""

import json
import sys
from typing import Any

from watchtide.cli import hooks, scanning, taking
from watchtide.cli.exits import fail
from watchtide.door import lines, states
from watchtide.door.watching import Rules, batches
from watchtide.plan import durations
from watchtide.tables import results


def watch(
    source: str,
    plan_path: str | None,
    state_path: str | None,
    hook: str | None,
    *,
    wait: str,
    is_once: bool,
    table: dict[str, Any],
) -> None:
    """Judge what comes until the input ends, and print what begins and ends."""
    plan = scanning.plan_of(plan_path, table)
    try:
        wait_ns = int(durations.parse_ns(wait))
    except ValueError as error:
        fail(f"--wait {error}")
    state = states.kept(state_path, plan) if state_path else states.State(plan)
    rules = Rules(taking.name_of(source), taking.chooser(table), wait_ns, _note)
    came = lines.of_file(source, state.offset, _note, is_once=is_once)
    for events in batches(came, state, rules):
        # Printed before the state is kept: killed in between, the next start prints them again under the same ids.
        for event in events:
            print(json.dumps(event, ensure_ascii=False), flush=True)
        if hook:
            state.unsent = hooks.send(hook, [*state.unsent, *events])
        if state_path:
            results.write_whole(state_path, states.written(state))


def _note(note: str) -> None:
    print(f"watchtide: {note}", file=sys.stderr)
