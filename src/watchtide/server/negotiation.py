"""How a door reads a body and chooses the form of its answer."""

import codecs
import json
import math
from collections.abc import Sequence
from typing import Any

import numpy as np
import orjson
from rest_framework.exceptions import ParseError
from rest_framework.negotiation import BaseContentNegotiation, DefaultContentNegotiation
from rest_framework.parsers import JSONParser
from rest_framework.renderers import JSONRenderer
from rest_framework.utils.encoders import JSONEncoder

from watchtide.server import moments
from watchtide.tables import clock


class FiniteJson(JSONParser):
    """JSON whose numbers are numbers: neither NaN and Infinity nor 1e999, which Python reads as infinite."""

    def parse(self, stream: Any, media_type: str | None = None, parser_context: Any = None) -> Any:
        encoding = (parser_context or {}).get("encoding", "utf-8")
        try:
            return json.load(codecs.getreader(encoding)(stream), parse_constant=_refuse, parse_float=_finite)
        except (ValueError, RecursionError, LookupError) as error:
            raise ParseError(f"the body is no JSON that can be used: {error}"[:300]) from error


def _refuse(text: str) -> float:
    raise ValueError(f"{text} is no number")


def _finite(text: str) -> float:
    value = float(text)
    if not math.isfinite(value):
        raise ValueError(f"{text[:40]} is too large")
    return value


class _Encoder(JSONEncoder):
    """Times as ISO 8601 in UTC, alone and in arrays."""

    def default(self, obj: Any) -> Any:
        if isinstance(obj, np.ndarray) and obj.dtype.kind == "M":
            return clock.format_times(obj.astype(np.int64)).tolist()
        if isinstance(obj, np.datetime64):
            return clock.format_time(moments.ns(obj))
        return super().default(obj)


class Json(JSONRenderer):
    """JSON by orjson, several times as fast; by the standard library where that refuses, as for numbers of over 64 bits."""

    encoder_class = _Encoder

    def render(self, data: Any, media_type: str | None = None, renderer_context: Any = None) -> bytes:
        if data is None:
            return b""
        try:
            return orjson.dumps(data, _plain, orjson.OPT_UTC_Z | orjson.OPT_NON_STR_KEYS)
        except orjson.JSONEncodeError:
            return bytes(super().render(data, media_type, renderer_context))


_encoder = _Encoder()


def _plain(value: Any) -> Any:
    if isinstance(value, np.ndarray) and value.dtype == np.float32:
        # What is missing or without end becomes null.
        return orjson.Fragment(orjson.dumps(value, option=orjson.OPT_SERIALIZE_NUMPY))
    return _encoder.default(value)


class AsItIs(BaseContentNegotiation):
    """Each door answers in its one form, whatever `Accept` says: JSON, or what the path's ending names."""

    def select_parser(self, request: Any, parsers: Sequence[Any]) -> Any:
        return DefaultContentNegotiation().select_parser(request, parsers)

    def select_renderer(
        self, request: Any, renderers: Sequence[Any], format_suffix: str | None = None
    ) -> Any:
        return renderers[0], renderers[0].media_type
