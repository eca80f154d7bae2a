"""Events of `watch`: a finding began or ended, each with an id, as a line or to a hook."""

import sys
from collections.abc import Sequence
from typing import Any

from watchtide.tables import cloudevents

TIMEOUT_S = 10.0
# Tried so often at once; what is not taken is tried again with what comes next.
TRIES, PAUSE_S = 2, 0.5
# The oldest are given up when a hook stays away for very long.
MOST_UNSENT = 1_000


def send(url: str, events: Sequence[dict[str, Any]]) -> list[dict[str, Any]]:
    """Send events to a hook as CloudEvents, in order; those that it has not taken."""
    import httpx
    from tenacity import Retrying, stop_after_attempt, wait_fixed

    attempts = Retrying(stop=stop_after_attempt(TRIES), wait=wait_fixed(PAUSE_S), reraise=True)
    with httpx.Client(timeout=TIMEOUT_S, follow_redirects=False, trust_env=False) as client:

        def post(one: dict[str, Any]) -> None:
            client.post(
                url, json=_cloudevent(one), headers={"Content-Type": cloudevents.CONTENT_TYPE}
            ).raise_for_status()

        for i, one in enumerate(events):
            try:
                attempts(post, one)
            except httpx.HTTPStatusError as error:
                problem = f"it answered {error.response.status_code}"
            except httpx.HTTPError as error:
                problem = str(error)
            else:
                continue
            print(f"watchtide: the hook took nothing: {problem}; it is tried again later", file=sys.stderr)
            return list(events[i:])[-MOST_UNSENT:]
    return []


def _cloudevent(one: dict[str, Any]) -> dict[str, Any]:
    data = {k: v for k, v in one.items() if k not in ("event", "id")}
    time = one.get("raised") or one["end"]
    kind = f"watchtide.finding.{one['event']}"
    return cloudevents.event(kind, "watchtide-watch", one["id"], time, one["series"], data)
