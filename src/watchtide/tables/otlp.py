"""OpenTelemetry metrics over HTTP (OTLP 1.x, protobuf and JSON) to points, and the answer the protocol asks for.

Gauges and delta sums are taken as they are. Cumulative monotonic sums become counters, whose rate is looked at;
where a sum states when it began, that moment is kept as a zero, so that a restart is seen even when the
counter has already passed its old value. Histograms become a count, a sum and quantiles.
"""

import json
import math
from collections.abc import Iterable
from typing import Any

from google.protobuf import json_format
from google.protobuf.message import DecodeError
from google.rpc.status_pb2 import Status
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import (
    ExportMetricsServiceRequest,
    ExportMetricsServiceResponse,
)

from watchtide.core.series.live import bucket_quantile
from watchtide.tables.clock import EARLIEST_NS, LATEST_NS
from watchtide.tables.points import (
    BOUND,
    QUANTILES,
    Attributes,
    Points,
    Series,
    is_sound,
    name_problem,
)
from watchtide.tables.problems import TableError

PROTOBUF, JSON = "application/x-protobuf", "application/json"
_DELTA = 1
MOST_REMEMBERED = 200_000
_seen: dict[tuple[str, str, str, Attributes], dict[Attributes, Series]] = {}
_NO_VALUE = 1


def decode(body: bytes, content_type: str) -> ExportMetricsServiceRequest:
    """The request of a message. Raises TableError for bytes that are none."""
    request = ExportMetricsServiceRequest()
    try:
        if content_type == PROTOBUF:
            request.ParseFromString(body)
        else:
            text = body.decode()
            if not text.lstrip().startswith("{"):
                raise TableError("body", "", "no JSON object", "send the message as the protocol has it")
            if _depth(text) > 64:
                raise TableError("body", "", "nested too deeply", "send the message as the protocol has it")
            json_format.Parse(text, request, ignore_unknown_fields=True)
    except (DecodeError, json_format.ParseError, UnicodeDecodeError, RecursionError, ValueError) as error:
        if isinstance(error, TableError):
            raise
        why = str(error).splitlines()[0][:160] if str(error) else "cut off or damaged"
        raise TableError(
            "body",
            "",
            f"no OTLP metrics message ({why})",
            f"send ExportMetricsServiceRequest as {content_type}",
        ) from error
    return request


def _depth(text: str) -> int:
    """How deep the brackets of a text go, whatever stands in quotes: enough to refuse bombs before parsing."""
    depth = most = 0
    for mark in text:
        if mark in "{[":
            depth += 1
            most = max(most, depth)
        elif mark in "}]":
            depth -= 1
    return most


def points_of(request: ExportMetricsServiceRequest, begun: dict[Series, int] | None = None) -> Points:
    """All points of a request. begun : start of each counter as last seen; a new start adds its zero."""
    out = Points()
    begun = {} if begun is None else begun
    for resource in request.resource_metrics:
        base = _pairs(resource.resource.attributes)
        for scope in resource.scope_metrics:
            for metric in scope.metrics:
                _metric(metric, base, out, begun)
    return out


def _pairs(attributes: Iterable[Any]) -> Attributes:
    return tuple((a.key, _word(a.value)) for a in attributes)


def _word(value: Any) -> str:
    kind = value.WhichOneof("value")
    if kind == "string_value":
        return str(value.string_value)
    if kind is None:
        return ""
    if kind == "bool_value":
        return "true" if value.bool_value else "false"
    if kind in ("int_value", "double_value"):
        return str(getattr(value, kind))
    if kind == "bytes_value":
        return value.bytes_value.hex()
    if kind == "array_value":
        return json.dumps([_word(v) for v in value.array_value.values], ensure_ascii=False)
    return json.dumps({v.key: _word(v.value) for v in value.kvlist_value.values}, ensure_ascii=False)


def _merged(base: Attributes, own: Attributes) -> Attributes:
    """Resource and point attributes together; of equal names the point's own stands."""
    names = {name for name, _ in own}
    return tuple(p for p in base if p[0] not in names) + own


def _metric(metric: Any, base: Attributes, out: Points, begun: dict[Series, int]) -> None:
    kind = metric.WhichOneof("data")
    if kind is None:
        out.refuse(f"{metric.name[:40]}: no data")
        return
    data = getattr(metric, kind)
    if kind in ("gauge", "sum"):
        is_counter = kind == "sum" and data.is_monotonic and data.aggregation_temporality != _DELTA
        # Sums of whatever kind add up over sources, gauges do not.
        plain = "amount" if kind == "sum" else "samples"
        _numbers(metric, data.data_points, base, out, begun, "counter" if is_counter else plain)
        return
    take = {"histogram": _histogram, "exponential_histogram": _exponential, "summary": _summary}[kind]
    is_delta = kind != "summary" and data.aggregation_temporality == _DELTA
    for point in data.data_points:
        attributes = _merged(base, _pairs(point.attributes))
        why = name_problem(metric.name, attributes)
        if why is None and not is_sound(point.time_unix_nano):
            why = f"{metric.name[:40]}: a point without a usable time"
        if why is not None:
            out.refuse(why)
        elif not point.flags & _NO_VALUE:
            take(metric, point, attributes, out, begun, is_delta)


def _numbers(
    metric: Any, points: Any, base: Attributes, out: Points, begun: dict[Series, int], kind: str
) -> None:
    """The hot path: one series an point, as gauges and sums mostly come."""
    name, unit, known = metric.name, metric.unit, out._known
    codes, times, values = out.codes, out.times, out.values
    seen = _seen_of((name, unit, kind, base))
    for point in points:
        # Text is what nearly all attributes are; an empty one may still be of another kind.
        own = tuple([(a.key, a.value.string_value or _word(a.value)) for a in point.attributes])
        series = seen.get(own)
        if series is None:
            series = Series(name, _merged(base, own), unit, kind)
            why = name_problem(name, series.attributes)
            if why is not None:
                out.refuse(why)
                continue
            seen[own] = series
        time = point.time_unix_nano
        code = known.get(series)
        if code is None:
            code = out.code(series)
        if not EARLIEST_NS <= time <= LATEST_NS or time == 0:
            out.refuse(f"{name[:40]}: a point without a usable time")
            continue
        which = point.WhichOneof("value")
        if point.flags & _NO_VALUE:
            value = math.nan
        elif which == "as_double":
            value = point.as_double
        elif which == "as_int":
            value = float(point.as_int)
        else:
            out.refuse(f"{name[:40]}: a point without a value")
            continue
        if kind == "counter":
            _begin(series, point.start_time_unix_nano, time, out, begun)
        codes.append(code)
        times.append(time)
        values.append(value)


def _seen_of(head: tuple[str, str, str, Attributes]) -> dict[Attributes, Series]:
    """Series of a metric and resource by the points' own attributes: the same ones come with every message."""
    seen = _seen.get(head)
    if (seen is None and sum(map(len, _seen.values())) >= MOST_REMEMBERED) or len(
        seen or ()
    ) >= MOST_REMEMBERED:
        _seen.clear()
    return _seen.setdefault(head, {})


def _begin(series: Series, start: int, time: int, out: Points, begun: dict[Series, int]) -> None:
    """Keep the moment a counter began as a zero, once."""
    if start and start < time and is_sound(start) and begun.get(series) != start:
        begun[series] = start
        out.add(series, start, 0.0)


def _histogram(
    metric: Any, point: Any, attributes: Attributes, out: Points, begun: dict[Series, int], is_delta: bool
) -> None:
    bounds, counts = list(point.explicit_bounds), list(point.bucket_counts)
    if counts and len(counts) != len(bounds) + 1:
        out.refuse(f"{metric.name[:40]}: {len(counts)} buckets for {len(bounds)} bounds")
        return
    total = point.sum if point.HasField("sum") else None
    _distribution(metric, point, attributes, out, begun, is_delta, bounds, counts, total)


def _exponential(
    metric: Any, point: Any, attributes: Attributes, out: Points, begun: dict[Series, int], is_delta: bool
) -> None:
    """Buckets whose bounds grow by 2 ** (2 ** -scale), as explicit bounds; values around zero are one bucket."""
    growth = 2.0 ** (2.0**-point.scale)

    def bound(index: int) -> float:
        return float(min(growth ** float(index), 1e300)) if growth < 1e30 else 1e300

    bounds: list[float] = []
    counts: list[float] = []
    if len(point.negative.bucket_counts) + len(point.positive.bucket_counts) > 4_000:
        out.refuse(f"{metric.name[:40]}: more than 4,000 buckets")
        return
    for i in reversed(range(len(point.negative.bucket_counts))):
        bounds.append(-bound(point.negative.offset + i))
        counts.append(point.negative.bucket_counts[i])
    bounds.append(point.zero_threshold or 0.0)
    counts.append(point.zero_count)
    for i, n in enumerate(point.positive.bucket_counts):
        bounds.append(bound(point.positive.offset + i + 1))
        counts.append(n)
    counts.append(0)
    total = point.sum if point.HasField("sum") else None
    if is_delta:
        _distribution(metric, point, attributes, out, begun, True, bounds, counts, total)
        return
    # Bounds move with the scale; kept as counters they would never meet again. Count and sum do.
    _distribution(metric, point, attributes, out, begun, False, [], [], total)


def _distribution(
    metric: Any, point: Any, attributes: Attributes, out: Points, begun: dict[Series, int], is_delta: bool,
    bounds: list[float], counts: list[float], total: float | None,
) -> None:  # fmt: skip
    name, unit, time = metric.name, metric.unit, point.time_unix_nano
    kind = "amount" if is_delta else "counter"
    heads = [(Series(f"{name}_count", attributes, "1", kind), float(point.count))]
    if total is not None:
        heads.append((Series(f"{name}_sum", attributes, unit, kind), float(total)))
    if is_delta:
        for share in QUANTILES:
            value = bucket_quantile(bounds, counts, share)
            heads.append((Series(f"{name}_p{share * 100:g}", attributes, unit), value))
    else:
        upto = 0.0
        for i, bound in enumerate(bounds):
            upto += counts[i]
            heads.append((Series(name, (*attributes, (BOUND, f"{bound:g}")), unit, "bucket"), upto))
        if bounds:
            heads.append((Series(name, (*attributes, (BOUND, "inf")), unit, "bucket"), upto + counts[-1]))
    for series, value in heads:
        if series.kind in ("counter", "bucket"):
            _begin(series, point.start_time_unix_nano, time, out, begun)
        out.add(series, time, value)


def _summary(
    metric: Any, point: Any, attributes: Attributes, out: Points, begun: dict[Series, int], is_delta: bool
) -> None:
    time = point.time_unix_nano
    for name, value in (("count", float(point.count)), ("sum", point.sum)):
        series = Series(f"{metric.name}_{name}", attributes, metric.unit if name == "sum" else "1", "counter")
        _begin(series, point.start_time_unix_nano, time, out, begun)
        out.add(series, time, value)
    for q in point.quantile_values:
        out.add(Series(f"{metric.name}_p{q.quantile * 100:g}", attributes, metric.unit), time, q.value)


def answer(points: Points, content_type: str) -> bytes:
    """The response of the protocol: empty when all was taken, else how many points were refused and why."""
    response = ExportMetricsServiceResponse()
    if points.refused:
        response.partial_success.rejected_data_points = points.refused_count
        response.partial_success.error_message = points.refusals
    if content_type == PROTOBUF:
        return bytes(response.SerializeToString())
    return json_format.MessageToJson(response, indent=None).encode()


# gRPC's codes for what HTTP's stand for (google.rpc.Code).
_RPC_CODES = {
    400: 3,
    401: 16,
    403: 7,
    404: 5,
    409: 10,
    413: 8,
    415: 3,
    422: 3,
    429: 8,
    500: 13,
    503: 14,
    507: 8,
}
_UNKNOWN = 2


def kind_of(content_type: str) -> str:
    """The form in which a failure is answered: that of the request, JSON where it has none of the protocol's."""
    return PROTOBUF if content_type.partition(";")[0].strip().lower() == PROTOBUF else JSON


def failure(status: int, message: str, kind: str) -> bytes:
    """The protocol's answer to a request that failed: google.rpc.Status."""
    found = Status(code=_RPC_CODES.get(status, _UNKNOWN), message=message)
    if kind == PROTOBUF:
        return bytes(found.SerializeToString())
    return json_format.MessageToJson(found, indent=None).encode()
