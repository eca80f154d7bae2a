"""Which version of a thing somebody edits: ETag with the answer, If-Match with the change, 412 where another came first."""

import hashlib
import json
from collections.abc import Mapping, Sequence
from typing import Any

from rest_framework import serializers

from watchtide.server.problems import Problem


def tag_of(data: Mapping[str, Any], fields: Sequence[str]) -> str:
    """A tag of what a person can edit; what changes by itself, as counts and last stamps do, is no edit."""
    text = json.dumps({name: data.get(name) for name in fields}, sort_keys=True, default=str)
    return f'"{hashlib.sha256(text.encode()).hexdigest()[:24]}"'


def check(request: Any, tag: str) -> None:
    """Raise Problem (412) where the request was made for another version than this. Call it with the row locked."""
    stated = request.headers.get("If-Match", "").strip()
    if not stated or stated == "*":
        return
    # Compression on the way makes a tag weak; what it stands for is the same.
    if tag not in [one.strip().removeprefix("W/") for one in stated.split(",")]:
        raise Problem(
            "somebody else has changed this meanwhile",
            place="If-Match",
            remedy="load it again, and make your change to what is there now",
            code=412,
        )


class Tagged(serializers.Serializer):
    """A thing that two people can edit: `etag` is the version of what is edited, to be sent back as If-Match."""

    etag = serializers.CharField(read_only=True, default="")

    def edited(self) -> Sequence[str]:
        """Names of what a person can edit."""
        raise NotImplementedError

    def to_representation(self, instance: Any) -> dict[str, Any]:
        data = dict(super().to_representation(instance))
        return {**data, "etag": tag_of(data, self.edited())}
