"""Pushes and tokens: what is taken, what is refused and how, and that a repeat changes nothing."""

import gzip
import json
import time

import numpy as np
import pytest
from google.protobuf import json_format
from google.rpc.status_pb2 import Status
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import (
    ExportMetricsServiceRequest,
    ExportMetricsServiceResponse,
)
from rest_framework.test import APIClient

from watchtide.server.people.access import make_token
from watchtide.server.streams import folding, limits, renewing, store
from watchtide.server.streams.models import Batch, Stream

START_NS = 1_787_389_200 * 10**9
PROTOBUF = "application/x-protobuf"
LINES = "application/x-ndjson"


def lines(*rows):
    return "\n".join(json.dumps(r) for r in rows).encode()


def push(client, body, kind=LINES, **headers):
    return client.post("/api/v1/push", data=body, content_type=kind, **headers)


def samples(key):
    times, values = store.read(Stream.objects.get(key=key).pk)
    return dict(zip(((times - START_NS) // 10**9).tolist(), values.tolist(), strict=True))


def otlp_of(kind, points, *, name="taps", unit="1", temporality=2, monotonic=True, resource=(), start=0):
    """A request with one metric; points are (seconds after the start, value or fields, attributes)."""
    request = ExportMetricsServiceRequest()
    one = request.resource_metrics.add()
    for key, value in resource:
        one.resource.attributes.add(key=key).value.string_value = value
    metric = one.scope_metrics.add().metrics.add(name=name, unit=unit)
    data = getattr(metric, kind)
    if kind == "sum":
        data.is_monotonic = monotonic
    if kind in ("sum", "histogram", "exponential_histogram"):
        data.aggregation_temporality = temporality
    for at, value, attributes in points:
        point = data.data_points.add(time_unix_nano=START_NS + int(at * 1e9))
        if start:
            point.start_time_unix_nano = start
        for key, word in attributes.items():
            point.attributes.add(key=key).value.string_value = word
        if isinstance(value, dict):
            for field, inner in value.items():
                if isinstance(inner, list):
                    getattr(point, field).extend(inner)
                else:
                    setattr(point, field, inner)
        elif isinstance(value, int):
            point.as_int = value
        else:
            point.as_double = value
    return request


def send(client, request, **headers):
    return client.post("/v1/metrics", data=request.SerializeToString(), content_type=PROTOBUF, **headers)


def test_json_lines_become_streams_with_their_attributes(sender):
    answer = push(
        sender,
        lines(
            {"time": "2026-08-22T09:00:00Z", "metric": "queue", "value": 4, "place": "Northquay"},
            {"time": START_NS + 60 * 10**9, "metric": "queue", "value": 5, "place": "Northquay"},
        ),
    )
    body = answer.json()
    assert answer.status_code == 200 and body["points"] == 1 and body["refused"] == 1
    assert "line 2" in body["refusals"]
    assert samples("metric=queue,place=Northquay") == {0: 4.0}


def test_the_same_batch_twice_changes_nothing_and_says_so(sender):
    body = lines({"time": "2026-08-22T09:00:00Z", "metric": "twice", "value": 4})
    assert push(sender, body).json() == {"points": 1, "refused": 0, "refusals": "", "is_repeat": False}
    assert push(sender, body).json()["is_repeat"] is True
    assert push(sender, body, HTTP_CONTENT_ENCODING="identity").json()["is_repeat"] is True
    keyed = {"HTTP_IDEMPOTENCY_KEY": "night 7"}
    other = lines({"time": "2026-08-22T09:01:00Z", "metric": "twice", "value": 5})
    assert push(sender, other, **keyed).json()["is_repeat"] is False
    changed = lines({"time": "2026-08-22T09:01:00Z", "metric": "twice", "value": 6})
    assert push(sender, changed, **keyed).status_code == 422
    assert push(sender, other, **keyed).json()["is_repeat"] is True
    assert samples("metric=twice") == {0: 4.0, 60: 5.0}


def test_late_and_unordered_points_land_where_they_belong(sender):
    for at, value in ((120, 3), (0, 1), (60, 2)):
        push(sender, lines({"time": f"2026-08-22T09:0{at // 60}:00Z", "metric": "late", "value": value}))
        folding.fold()
    assert samples("metric=late") == {0: 1, 60: 2, 120: 3}


def test_gauges_keep_resource_and_point_attributes(sender):
    request = otlp_of(
        "gauge", [(0, 2.5, {"hold": "Hold 1", "place": "own"}), (60, 3, {"hold": "Hold 1", "place": "own"})],
        name="temp", unit="Cel", resource=[("service.name", "cold"), ("place", "quay")],
    )  # fmt: skip
    answer = send(sender, request)
    assert answer.status_code == 200 and answer["Content-Type"] == PROTOBUF
    assert answer.content == b""
    stream = Stream.objects.get(metric="temp")
    assert dict(stream.attributes) == {"service.name": "cold", "hold": "Hold 1", "place": "own"}
    assert stream.unit == "Cel" and samples(stream.key) == {0: 2.5, 60: 3.0}


def test_a_cumulative_sum_becomes_a_rate_that_survives_a_restart(sender):
    """100 in 60 s, then a restart after which 30 are counted in 60 s; by hand: 100/60 and 30/60 a second."""
    send(sender, otlp_of("sum", [(0, 1000, {}), (60, 1100, {}), (120, 30, {})], name="rows", unit="{row}"))
    assert renewing.renew() == 1
    rate = Stream.objects.get(metric="rows")
    assert rate.unit == "{row}/s" and samples(rate.key) == {
        0: pytest.approx(100 / 60),
        60: pytest.approx(0.5),
    }
    assert Stream.objects.get(metric="rows counted").kind == "counter"


def test_a_restart_is_seen_by_its_start_time_even_past_the_old_value(sender):
    """1,000 at 0 s; restarted at 30 s; 1,200 at 60 s. Without the start time it would seem 200 in 60 s."""
    send(sender, otlp_of("sum", [(0, 1000.0, {})], name="fast", start=START_NS - 10**12))
    send(sender, otlp_of("sum", [(60, 1200.0, {})], name="fast", start=START_NS + 30 * 10**9))
    renewing.renew()
    got = samples("metric=fast")
    assert got[30] == pytest.approx(1200 / 30) and got[0] == 0


def test_a_late_counter_sample_corrects_the_rates_around_it(sender):
    send(sender, otlp_of("sum", [(0, 0, {}), (120, 120, {})], name="late_count"))
    renewing.renew()
    assert samples("metric=late_count") == {0: 1.0}
    send(sender, otlp_of("sum", [(60, 90, {})], name="late_count"))
    renewing.renew()
    assert samples("metric=late_count") == {0: 1.5, 60: 0.5}


def test_delta_sums_and_up_and_down_counters_are_taken_as_they_are(sender):
    send(sender, otlp_of("sum", [(0, 5, {}), (60, 7, {})], name="delta", temporality=1))
    send(sender, otlp_of("sum", [(0, 5, {}), (60, 3, {})], name="updown", monotonic=False))
    assert samples("metric=delta") == {0: 5, 60: 7} and samples("metric=updown") == {0: 5, 60: 3}


def test_a_delta_histogram_gives_count_sum_and_quantiles(sender):
    """Ten values up to 1, ten from 1 to 2: the median is 1, the 95th percentile 1.9."""
    fields = {"count": 20, "sum": 20.0, "bucket_counts": [10, 10, 0], "explicit_bounds": [1.0, 2.0]}
    send(sender, otlp_of("histogram", [(0, fields, {})], name="wait", unit="s", temporality=1))
    assert samples("metric=wait_count") == {0: 20} and samples("metric=wait_sum") == {0: 20}
    assert samples("metric=wait_p50")[0] == pytest.approx(1.0)
    assert samples("metric=wait_p95")[0] == pytest.approx(1.9)


def test_a_cumulative_histogram_gives_rates_and_quantiles_of_each_interval(sender):
    """In the minute: 10 in the first bucket, 30 in the second; the median lies a third into the second."""
    first = {"count": 100, "sum": 50.0, "bucket_counts": [90, 10, 0], "explicit_bounds": [1.0, 2.0]}
    second = {"count": 140, "sum": 110.0, "bucket_counts": [100, 40, 0], "explicit_bounds": [1.0, 2.0]}
    send(sender, otlp_of("histogram", [(0, first, {}), (60, second, {})], name="crossing", unit="s"))
    renewing.renew()
    assert samples("metric=crossing_p50")[0] == pytest.approx(1 + 10 / 30)
    assert samples("metric=crossing_count")[0] == pytest.approx(40 / 60)
    assert samples("metric=crossing_sum")[0] == pytest.approx(1.0)


def test_an_exponential_histogram_of_deltas(sender):
    """Scale 0: buckets (1, 2] and (2, 4]; four values in each. The median is the bound between."""
    request = otlp_of(
        "exponential_histogram", [(0, {"count": 8, "sum": 18.0, "scale": 0}, {})], name="exp", temporality=1
    )
    point = request.resource_metrics[0].scope_metrics[0].metrics[0].exponential_histogram.data_points[0]
    point.positive.offset = 0
    point.positive.bucket_counts.extend([4, 4])
    send(sender, request)
    assert samples("metric=exp_p50")[0] == pytest.approx(2.0)


def test_what_cannot_be_taken_is_a_partial_success_with_count_and_reason(sender):
    request = otlp_of("gauge", [(0, 1.0, {}), (60, 2.0, {})], name="half")
    request.resource_metrics[0].scope_metrics[0].metrics[0].gauge.data_points[1].time_unix_nano = 0
    answer = send(sender, request)
    partial = ExportMetricsServiceResponse.FromString(answer.content).partial_success
    assert answer.status_code == 200 and partial.rejected_data_points == 1 and "time" in partial.error_message
    assert samples("metric=half") == {0: 1.0}


def test_otlp_as_json_and_gzip_is_the_same(sender):
    from google.protobuf.json_format import MessageToJson

    request = otlp_of("gauge", [(0, 7.5, {"place": "x"})], name="packed")
    body = gzip.compress(MessageToJson(request).encode())
    answer = sender.post(
        "/v1/metrics", data=body, content_type="application/json", HTTP_CONTENT_ENCODING="gzip"
    )
    assert answer.status_code == 200 and answer.json() == {}
    assert samples("metric=packed,place=x") == {0: 7.5}


def test_many_series_in_one_message_are_one_block(sender):
    points = [(0, float(i), {"n": str(i)}) for i in range(500)]
    send(sender, otlp_of("gauge", points, name="many"))
    batch = Batch.objects.order_by("-pk").first()
    assert batch.samples == 500 and batch.blocks.count() == 1
    assert samples("metric=many,n=137") == {0: 137.0}


def test_usual_lateness_is_learned_from_arrivals(sender):
    """Each batch arrives some 90 s after its newest stamp; a late filling-in does not count."""
    for i in range(8):
        now = time.time()
        rows = [{"time": f"{int((now - 90 - 600 + i * 60) * 1000)}", "metric": "tardy", "value": i}]
        rows.append({"time": f"{int((now - 90) * 1000)}", "metric": "tardy", "value": i})
        push(sender, lines(*rows))
        folding.fold()
    assert 85 < Stream.objects.get(metric="tardy").lateness_ns / 1e9 < 100


class TestRefusals:
    def test_without_a_token(self, small_world, db):
        answer = push(APIClient(), b"{}")
        assert answer.status_code == 401 and answer["WWW-Authenticate"] == "Session"
        assert answer["Content-Type"] == "application/problem+json"

    def test_a_token_that_is_unknown_expired_or_revoked(self, small_world, db):
        from datetime import timedelta

        from django.contrib.auth.models import User
        from django.utils import timezone

        user = User.objects.get(username="ann")
        _, old = make_token(user, "old", ["push"], timezone.now() - timedelta(seconds=1))
        gone, revoked = make_token(user, "gone", ["push"])
        gone.revoked_at = timezone.now()
        gone.save()
        for text in ("wt_nonsense", old, revoked):
            client = APIClient()
            client.credentials(HTTP_AUTHORIZATION=f"Bearer {text}")
            assert push(client, b"{}").status_code == 401

    def test_a_token_without_the_scope(self, sender, small_world):
        assert sender.get("/api/v1/catalogue").status_code == 403
        assert "scope read" in sender.get("/api/v1/catalogue").json()["title"]
        from django.contrib.auth.models import User

        _, text = make_token(User.objects.get(username="ann"), "reader", ["read"])
        reader = APIClient()
        reader.credentials(HTTP_AUTHORIZATION=f"Bearer {text}")
        assert reader.get("/api/v1/catalogue").status_code == 200
        assert push(reader, lines({"time": "2026-08-22", "metric": "a", "value": 1})).status_code == 403
        assert reader.patch("/api/v1/streams/1/facts", {"unit": "x"}, format="json").status_code == 403

    def test_a_viewers_token_may_not_write(self, small_world, db):
        from django.contrib.auth.models import User

        _, text = make_token(User.objects.get(username="vic"), "viewer", ["push", "write", "read"])
        client = APIClient()
        client.credentials(HTTP_AUTHORIZATION=f"Bearer {text}")
        assert push(client, lines({"time": "2026-08-22", "metric": "a", "value": 1})).status_code == 403

    def test_a_token_makes_no_tokens(self, small_world, db):
        from django.contrib.auth.models import User

        _, text = make_token(User.objects.get(username="ann"), "all", ["push", "write", "read"])
        client = APIClient()
        client.credentials(HTTP_AUTHORIZATION=f"Bearer {text}")
        answer = client.post("/api/v1/tokens", {"name": "more", "scopes": ["push"]}, format="json")
        assert answer.status_code == 403

    @pytest.mark.parametrize("kind", ["text/plain", "application/xml", "", "application/json"])
    def test_another_content_type(self, sender, kind):
        answer = push(sender, b"x", kind or "application/octet-stream")
        assert answer.status_code == 415 and "application/x-ndjson" in answer.json()["remedy"]

    def test_another_packing(self, sender):
        answer = push(sender, b"x", HTTP_CONTENT_ENCODING="br")
        assert answer.status_code == 415 and answer.json()["place"] == "Content-Encoding"

    def test_a_body_too_large_by_its_header_and_in_fact(self, sender, settings):
        settings.MOST_PUSH_BYTES = 1_000
        assert push(sender, b"x" * 1_001).status_code == 413

    def test_a_gzip_bomb(self, sender, settings):
        settings.MOST_PUSH_INFLATED = 1 << 20
        answer = push(sender, gzip.compress(b" " * (8 << 20)), HTTP_CONTENT_ENCODING="gzip")
        assert answer.status_code == 413 and "unpacks to more than" in answer.json()["title"]

    @pytest.mark.parametrize("cut", [b"junk", gzip.compress(b"{}" * 100, mtime=0)[:15]])
    def test_a_damaged_gzip(self, sender, cut):
        answer = push(sender, cut, HTTP_CONTENT_ENCODING="gzip")
        assert answer.status_code == 400 and "gzip" in answer.json()["title"]

    def test_too_many_pushes_are_told_to_wait(self, sender, settings):
        settings.PUSHES_A_MINUTE = 3
        limits.clear()
        row = {"time": "2026-08-22", "metric": "fast", "value": 1}
        statuses = [push(sender, lines(row | {"value": i})) for i in range(5)]
        assert [a.status_code for a in statuses] == [200, 200, 200, 429, 429]
        assert 1 <= int(statuses[3]["Retry-After"]) <= 60

    def test_too_many_points_are_told_to_wait_and_nothing_is_stored(self, sender, settings):
        settings.POINTS_A_MINUTE = 10
        limits.clear()
        rows = [{"time": "2026-08-22", "metric": "flood", "value": 1, "n": str(i)} for i in range(8)]
        assert push(sender, lines(*rows)).status_code == 200
        assert push(sender, lines(*(r | {"m": "1"} for r in rows))).status_code == 429
        assert Stream.objects.filter(metric="flood").count() == 8

    @pytest.mark.parametrize(
        ("body", "words"),
        [
            (b"", "empty"), (b"[1, 2]", "list where an object"), (b"not json", "no JSON object"),
            (b'{"metric": "a", "value": 1}', "has no time"), (b'{"time": "soon", "metric": "a", "value": 1}', "is no time"),
            (b'{"time": "0001-01-01", "metric": "a", "value": 1}', "is no time"),
            (b'{"time": "9999-12-31", "metric": "a", "value": 1}', "is no time"),
            (b'{"time": "-62135596800", "metric": "a", "value": 1}', "is no time"),
            (b'{"time": "2026-08-22", "metric": "a", "value": "much"}', "no number"),
            (b'{"time": "2026-08-22", "metric": "a"}', "no number"),
            (b'{"time": "2026-08-22", "metric": "a", "value": Infinity}', "no number"),
            (b'{"time": "2026-08-22", "metric": "' + b"m" * 300 + b'", "value": 1}', "300 characters"),
            (b'{"time": "2026-08-22", "metric": "a", "value": 1, "x": "' + b"y" * 600 + b'"}', "too long"),
            (b'{"a":' * 100 + b"1" + b"}" * 100, "nested"), (b"[" * 100_000, "no JSON object"),
            (b'{"time": "2026-08-22", "metric": "a", "value": 1', "no JSON object"),
            (b"\xff\xfe\x00", "no JSON object"),
        ],
    )  # fmt: skip
    def test_lines_that_cannot_be_used(self, sender, body, words):
        before = Batch.objects.count()
        answer = push(sender, body)
        assert answer.status_code == 400, answer.content
        assert words in answer.json()["title"] and Batch.objects.count() == before

    def test_a_stream_of_every_value_is_refused_as_a_whole(self, sender, monkeypatch):
        monkeypatch.setattr("watchtide.server.streams.catalogue.MOST_FRESH", 5)
        before = Stream.objects.count()
        rows = "".join(
            f'{{"time": "2026-08-22", "metric": "ids", "value": 1, "id": "{i}"}}\n' for i in range(6)
        )
        answer = push(sender, rows.encode())
        assert answer.status_code == 413 and "drop the attribute" in answer.json()["remedy"]
        assert Stream.objects.count() == before

    @pytest.mark.parametrize(
        ("body", "kind"),
        [
            (b"\xff" * 40, PROTOBUF), (b"\x0a\xff\xff\xff\xff\x0f", PROTOBUF), (b"{", "application/json"), (b"[]", "application/json"),
            (b'{"resourceMetrics": 5}', "application/json"), (b"[" * 50_000, "application/json"), (b"\xff\xfe", "application/json"),
        ],
    )  # fmt: skip
    def test_otlp_that_is_none(self, sender, body, kind):
        answer = sender.post("/v1/metrics", data=body, content_type=kind)
        assert answer.status_code == 400 and answer["Content-Type"] == kind
        found = Status()
        if kind == PROTOBUF:
            found.ParseFromString(answer.content)
        else:
            json_format.Parse(answer.content, found)
        assert found.code == 3 and ";" in found.message

    def test_not_a_number_is_kept_as_missing(self, sender):
        send(
            sender,
            otlp_of("gauge", [(0, float("nan"), {}), (60, float("inf"), {}), (120, 1.0, {})], name="holes"),
        )
        got = samples("metric=holes")
        assert np.isnan(got[0]) and np.isnan(got[60]) and got[120] == 1


def test_a_tokens_text_is_shown_once_and_kept_as_a_digest(api):
    from watchtide.server.people.models import Token

    made = api.post("/api/v1/tokens", {"name": "relay", "scopes": ["push"], "days": 30}, format="json").json()
    row = Token.objects.get(pk=made["id"])
    assert (
        made["text"].startswith("wt_") and made["text"] not in str(vars(row)) and row.expires_at is not None
    )
    [listed] = [t for t in api.get("/api/v1/tokens").json()["items"] if t["id"] == made["id"]]
    assert "text" not in listed and listed["hint"] == made["text"][:9]
    assert api.delete(f"/api/v1/tokens/{made['id']}").status_code == 204
    client = APIClient()
    client.credentials(HTTP_AUTHORIZATION=f"Bearer {made['text']}")
    assert push(client, b"{}").status_code == 401
