"""Events in the form of CloudEvents 1.0, structured mode in JSON."""

from typing import Any

CONTENT_TYPE = "application/cloudevents+json"


def event(kind: str, source: str, uid: str, time: str, subject: str, data: dict[str, Any]) -> dict[str, Any]:
    """An event as it is sent. kind : its `type`; uid : its `id`, the same in every attempt; time : ISO 8601."""
    return {
        "specversion": "1.0",
        "type": kind,
        "source": source,
        "id": uid,
        "time": time,
        "subject": subject,
        "datacontenttype": "application/json",
        "data": data,
    }
