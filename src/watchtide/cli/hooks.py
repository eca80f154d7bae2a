"""Events of `watch`: a finding began or ended, each with an id, as a line or to a hook."""

import hashlib
import json
import sys
import time
from collections.abc import Sequence
from typing import Any

from watchtide.core.scoring.rows import Finding
from watchtide.tables import results

TIMEOUT_S = 10.0
# Tried so often at once; what is not taken is tried again with what comes next.
TRIES, PAUSE_S = 2, 0.5
# The oldest are given up when a hook stays away for very long.
MOST_UNSENT = 1_000


def event(kind: str, finding: Finding) -> dict[str, Any]:
    """A finding that began or ended, in the columns of a findings file. The id is the same however often it is printed."""
    row = json.loads(results.findings_text([finding], "findings.jsonl"))
    name = f"{kind} {finding.series} {finding.start} {finding.kind} {finding.direction}"
    return {"event": kind, "id": hashlib.sha256(name.encode()).hexdigest()[:24], **row}


def send(url: str, events: Sequence[dict[str, Any]]) -> list[dict[str, Any]]:
    """Send events to a hook as CloudEvents 1.0, in order; those that it has not taken."""
    import httpx

    for i, one in enumerate(events):
        body = {
            "specversion": "1.0",
            "type": f"watchtide.finding.{one['event']}",
            "source": "watchtide-watch",
            "id": one["id"],
            "time": one.get("raised") or one["end"],
            "subject": one["series"],
            "datacontenttype": "application/json",
            "data": {k: v for k, v in one.items() if k not in ("event", "id")},
        }
        problem = ""
        for k in range(TRIES):
            time.sleep(PAUSE_S * k)
            try:
                answer = httpx.post(
                    url, json=body, headers={"Content-Type": "application/cloudevents+json"},
                    timeout=TIMEOUT_S, follow_redirects=False, trust_env=False,
                )  # fmt: skip
            except httpx.HTTPError as error:
                problem = str(error)
                continue
            problem = "" if answer.is_success else f"it answered {answer.status_code}"
            if not problem:
                break
        if problem:
            print(f"watchtide: the hook took nothing: {problem}; it is tried again later", file=sys.stderr)
            return list(events[i:])[-MOST_UNSENT:]
    return []
