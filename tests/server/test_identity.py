"""Which stream a pushed series belongs to: restarts, several instances and new versions, with a real exporter; rules and their undoing."""

import gzip
import json
import subprocess
import sys
import threading
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import numpy as np
import pytest

from tests.server.conftest import run_jobs
from tests.server.test_live import LINES, START_NS, lines, otlp_of
from watchtide.server.streams import catalogue, folding, identity, live, places, renewing, store
from watchtide.server.streams.models import Batch, IdentityVersion, Stream
from watchtide.tables.identity import DEFAULTS, Rule, from_data, identify, to_data
from watchtide.tables.problems import TableError

EXPORTER = Path(__file__).with_name("exporter.py")
PROTOBUF = "application/x-protobuf"


@pytest.fixture(scope="module")
def sent():
    """What real processes export: two at once, then one that replaces the second; and one in another unit. By name, bodies in order."""
    received = []

    class Handler(BaseHTTPRequestHandler):
        def do_POST(self):
            body = self.rfile.read(int(self.headers["Content-Length"]))
            packed = self.headers.get("Content-Encoding") == "gzip"
            received.append(gzip.decompress(body) if packed else body)
            self.send_response(200)
            self.send_header("Content-Type", PROTOBUF)
            self.end_headers()

        def log_message(self, *_):
            return

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
    url = f"http://127.0.0.1:{server.server_address[1]}"

    def start(instance, ticks, pilots, *more):
        command = [
            sys.executable,
            str(EXPORTER),
            url,
            "--instance",
            instance,
            "--ticks",
            str(ticks),
            "--pilots",
            str(pilots),
            *more,
        ]
        return subprocess.Popen(command)

    try:
        first, second = start("aaaa-1", 16, 3), start("bbbb-1", 6, 5)
        assert second.wait(60) == 0
        again = start("bbbb-2", 6, 5)
        assert again.wait(60) == 0 and first.wait(60) == 0
        together = list(received)
        received.clear()
        assert start("cccc-1", 2, 1, "--unit", "kg").wait(60) == 0
        return {"together": together, "other unit": list(received)}
    finally:
        server.shutdown()


def take(client, bodies):
    answers = [client.post("/v1/metrics", data=b, content_type=PROTOBUF) for b in bodies]
    assert {a.status_code for a in answers} == {200}
    renewing.renew()
    return answers


def seen(metric):
    """(stream, times, values) of the one stream in sight of a metric."""
    [stream] = catalogue.visible().filter(metric=metric)
    times, values = store.read(stream.pk)
    some = ~np.isnan(values)
    return stream, times[some], values[some]


class TestRealExporter:
    def test_restarts_and_instances_are_one_stream_each_by_what_names_the_service(self, sender, sent):
        take(sender, sent["together"])
        for metric in (
            "pilot_boardings",
            "pilots_waiting",
            "pilot_boat_fuel",
            "boarding_time_p95",
            "boarding_time_count",
        ):
            stream, times, _ = seen(metric)
            names = dict(stream.attributes)
            assert names["service.name"] == "pilot-desk" and names["harbour"] == "h1"
            assert not {
                n
                for n in names
                if n.startswith(("telemetry.", "process.", "service.instance", "service.version"))
            }
            assert stream.title == metric and len(times) >= 6
        # Three processes said something of it.
        assert Stream.objects.filter(metric="pilots_waiting", kind="source").count() == 3

    def test_what_adds_up_is_summed_and_the_rest_averaged(self, sender, sent):
        take(sender, sent["together"])
        _, _, waiting = seen("pilots_waiting")
        _, _, fuel = seen("pilot_boat_fuel")
        assert {3.0, 8.0} <= set(waiting.tolist()) <= {3.0, 5.0, 8.0}
        assert {53.0, 54.0} <= set(fuel.tolist()) <= {53.0, 54.0, 55.0}

    def test_counters_that_begin_anew_lose_and_double_nothing(self, sender, sent):
        take(sender, sent["together"])
        stream, times, rates = seen("pilot_boardings")
        assert stream.unit == "{boarding}/s"
        lengths = np.diff(np.r_[times, times[-1:] + 250_000_000]) / 1e9
        counted = float(np.sum(rates * np.minimum(lengths, 0.6)))
        everything = 16 * 3 + 2 * 6 * 5
        # What each process counts up to its first export is over before anybody can see a rate of it.
        assert 0.75 * everything < counted < 1.2 * everything and rates.min() >= 0

    def test_what_arrives_bit_by_bit_leaves_no_missing_samples_behind(self, sender):
        rng = np.random.default_rng(5)
        at = {pod: np.cumsum(rng.uniform(0.25, 0.45, 80)) for pod in "ab"}
        order = sorted((t, pod) for pod, own in at.items() for t in own)
        live.numbers.forget()
        named = {"metric": "boats", "place": "quay"}
        identity.put_in_force([Rule("boats", drop=("pod",)), *DEFAULTS], None)
        for i in range(0, len(order), 4):
            rows = [
                {"time": f"2026-08-22T09:00:{t:09.6f}Z", "value": 1.0, "pod": pod, **named}
                for t, pod in order[i : i + 4]
                if t < 59
            ]
            sender.post("/api/v1/push", data=lines(*rows), content_type=LINES)
            folding.fold()
            renewing.renew()
        folding.fold()
        [stream] = catalogue.visible().filter(metric="boats")
        _, values = store.read(stream.pk)
        assert not np.isnan(values).any()
        assert 0.2e9 < stream.step_ns < 0.7e9

    def test_messages_in_any_order_give_the_same_streams(self, sender, sent):
        take(sender, sent["together"])
        before = {m: seen(m)[1:] for m in ("pilots_waiting", "pilot_boat_fuel")}
        Batch.objects.filter(door__in=("push", "derived")).delete()
        Stream.objects.filter(metric__startswith="pilot").delete()
        live.numbers.forget()
        order = np.random.default_rng(1).permutation(len(sent["together"]))
        for at in np.array_split(order, 7):
            take(sender, [sent["together"][i] for i in at])
        for metric, (times, values) in before.items():
            _, t, v = seen(metric)
            common = np.intersect1d(times, t)
            assert len(common) >= 0.8 * len(times)
            assert np.mean(v[np.searchsorted(t, common)] == values[np.searchsorted(times, common)]) > 0.9

    def test_another_unit_is_refused_for_its_own_points_and_nothing_else(self, sender, sent):
        take(sender, sent["together"])
        answers = take(sender, sent["other unit"])
        assert b"its unit is kg" in answers[0].content
        assert seen("pilots_waiting")[0].unit == "{pilot}"
        assert Stream.objects.filter(metric="pilot_boat_fuel", kind="source").count() == 4


def push(client, *rows):
    answer = client.post("/api/v1/push", data=lines(*rows), content_type=LINES)
    assert answer.status_code == 200, answer.content
    renewing.renew()
    return answer.json()


def gauge(instance, minutes, value, place="quay", **more):
    return [
        {
            "time": f"2026-08-22T{9 + m // 60:02d}:{m % 60:02d}:00Z",
            "metric": "draught",
            "value": value,
            "place": place,
            "pod": instance,
            **more,
        }
        for m in minutes
    ]


class TestRules:
    def test_a_rule_merges_stored_history_and_can_be_taken_back(self, sender, api):
        push(
            sender,
            *gauge("a", range(60), 2.0),
            *gauge("b", range(60, 120), 4.0),
            *gauge("c", range(120), 9.0, "pier"),
        )
        folding.fold()
        assert catalogue.visible().filter(metric="draught").count() == 3
        titles = set(catalogue.visible().filter(metric="draught").values_list("title_own", flat=True))
        assert titles == {"quay · a", "quay · b", "pier · c"}
        rules = [{"metric": "draught", "drop": ["pod"], "join": "max"}, *to_data(DEFAULTS)]
        told = api.post("/api/v1/identity/preview", {"rules": rules}, format="json").json()
        assert (told["before"], told["after"], told["merged"]) == (3, 2, 1) and not told["problems"]
        assert (
            told["streams"][0]["key"] == "metric=draught,place=quay"
            and told["streams"][0]["source_count"] == 2
        )
        assert IdentityVersion.objects.count() == 0
        answer = api.put("/api/v1/identity", {"rules": rules}, format="json")
        assert answer.status_code == 202
        run_jobs()
        assert set(catalogue.visible().filter(metric="draught").values_list("title_own", flat=True)) == {
            "quay",
            "pier",
        }
        merged = Stream.objects.get(key="metric=draught,place=quay")
        times, values = store.read(merged.pk)
        assert len(times) == 120 and values.tolist() == [2.0] * 60 + [4.0] * 60
        # What comes later goes the same way.
        live.numbers.forget()
        push(sender, *gauge("d", range(120, 180), 6.0))
        assert store.read(merged.pk)[1][-1] == 6.0 and len(store.read(merged.pk)[0]) == 180
        version = answer.json()["version"]["id"]
        assert api.post(f"/api/v1/identity/{version}/undo").status_code == 202
        run_jobs()
        kept = {s.title: len(store.read(s.pk)[0]) for s in catalogue.visible().filter(metric="draught")}
        assert kept == {"quay · a": 60, "quay · b": 60, "quay · d": 60, "pier · c": 120}
        assert api.get("/api/v1/identity").json()["is_default"]

    def test_titles_of_many_others_are_renewed_behind_the_push_that_changes_them(self, sender, api):
        some = [row for i in range(60) for row in gauge(f"pod {i:02d}", [0], 2.0)]
        push(sender, *some)
        titles = catalogue.visible().filter(metric="draught")
        assert set(titles.values_list("title_own", flat=True)) == {f"pod {i:02d}" for i in range(60)}
        push(sender, *gauge("pod 60", [0], 2.0, "pier"))
        assert titles.get(title_own="pier · pod 60")
        assert not titles.filter(title_own="quay · pod 00").exists()
        run_jobs()
        assert titles.filter(title_own__startswith="quay · pod").count() == 60
        # Few are renewed at once.
        push(sender, *gauge("a", [0], 3.0), *[{**row, "metric": "depth"} for row in gauge("a", [0], 3.0)])
        push(sender, *[{**row, "metric": "depth"} for row in gauge("b", [0], 3.0)])
        assert set(catalogue.visible().filter(metric="depth").values_list("title_own", flat=True)) == {
            "a",
            "b",
        }

    def test_two_at_once_are_put_together_as_the_rule_says(self, sender, api):
        rules = [{"metric": "draught", "drop": ["pod"], "join": "sum"}]
        api.put("/api/v1/identity", {"rules": rules}, format="json")
        live.numbers.forget()
        push(sender, *gauge("a", range(60), 2.0))
        push(sender, *gauge("b", range(20, 40), 5.0))
        values = store.read(Stream.objects.get(key="metric=draught,place=quay").pk)[1]
        assert values.tolist() == [2.0] * 20 + [7.0] * 20 + [2.0] * 20

    def test_undoing_a_push_takes_its_share_out_of_what_it_was_put_into(self, sender, api):
        api.put("/api/v1/identity", {"rules": [{"drop": ["pod"], "join": "sum"}]}, format="json")
        live.numbers.forget()
        push(sender, *gauge("a", range(60), 2.0))
        push(sender, *gauge("b", range(20, 40), 5.0))
        batch = Batch.objects.filter(door="push").order_by("-pk")[0]
        assert api.post(f"/api/v1/batches/{batch.pk}/undo").status_code == 202
        run_jobs()
        stream = Stream.objects.get(key="metric=draught,place=quay")
        values = store.read(stream.pk)[1]
        assert values[~np.isnan(values)].tolist() == [2.0] * 60

    def test_a_rule_that_would_join_units_is_refused_and_changes_nothing(self, sender, api):
        push(sender, *gauge("a", range(5), 2.0, unit="m"), *gauge("b", range(5), 2.0, unit="ft"))
        rules = [{"drop": ["pod"]}]
        told = api.post("/api/v1/identity/preview", {"rules": rules}, format="json").json()
        assert "would join streams in ft and m" in told["problems"][0]
        answer = api.put("/api/v1/identity", {"rules": rules}, format="json")
        assert answer.status_code == 409 and "would join streams" in answer.json()["title"]
        assert (
            IdentityVersion.objects.count() == 0 and catalogue.visible().filter(metric="draught").count() == 2
        )

    @pytest.mark.parametrize(
        ("rules", "place"),
        [
            ("drop everything", "rules"), ([1], "rule 1"), ([{"metric": ""}], "rule 1, metric"), ([{"drop": "pod"}], "rule 1, drop"),
            ([{}, {"join": "median"}], "rule 2, join"), ([{"rename": [["a"]]}], "rule 1, rename"), ([{"wipe": []}], "rule 1, wipe"),
        ],
    )  # fmt: skip
    def test_rules_that_cannot_be_are_refused_at_their_place(self, api, rules, place):
        for call in (api.put, lambda *a, **k: api.post("/api/v1/identity/preview", *a[1:], **k)):
            answer = call("/api/v1/identity", {"rules": rules}, format="json")
            assert answer.status_code == 400 and answer.json()["place"] == place, answer.json()

    def test_a_viewer_reads_rules_and_changes_none(self, small_world, db):
        from tests.server.conftest import signed_in

        vic = signed_in("vic")
        assert vic.get("/api/v1/identity").status_code == 200
        assert vic.put("/api/v1/identity", {"rules": []}, format="json").status_code == 403

    def test_streams_of_releases_before_become_sources_with_their_history(self, sender):
        key = (("service.name", "desk"), ("service.instance.id", "old"))
        [old] = catalogue.find_or_make([("queue", key)], unit="1")
        store_at = START_NS + np.arange(30) * 60 * 10**9
        batch = Batch.objects.create(key="old", source="before", door="push")
        store.write_blocks(batch, [(old.pk, store_at, np.full(30, 4.0))])
        Batch.objects.filter(pk=batch.pk).update(accepted_at="2026-08-22T00:00Z")
        folding.fold()
        request = otlp_of("gauge", [(1_800, 5.0, {})], name="queue", resource=key)
        assert (
            sender.post("/v1/metrics", data=request.SerializeToString(), content_type=PROTOBUF).status_code
            == 200
        )
        run_jobs()
        renewing.renew()
        stream, times, values = seen("queue")
        assert stream.key == "metric=queue,service.name=desk"
        assert len(times) == 31 and values.tolist() == [4.0] * 30 + [5.0]


def test_the_first_rule_that_names_an_attribute_decides():
    rules = (
        Rule("k8s.pod.*", keep=("k8s.pod.name",)),
        Rule(drop=("k8s.pod.*", "pid")),
        Rule(rename=(("svc", "service.name"),), join="max"),
    )
    own = (
        ("k8s.pod.name", "p1"),
        ("k8s.pod.uid", "7"),
        ("pid", "3"),
        ("svc", "desk"),
        ("service.name", "other"),
    )
    assert identify("k8s.pod.cpu", own, rules) == ((("k8s.pod.name", "p1"), ("service.name", "desk")), "max")
    assert identify("requests", own, rules)[0] == (("service.name", "desk"),)
    assert from_data(json.loads(json.dumps(to_data(DEFAULTS)))) == DEFAULTS
    with pytest.raises(TableError):
        from_data({"rules": []})


def test_a_key_too_long_refuses_its_own_points_alone(sender):
    long = {f"attribute_{i:02d}": "x" * 400 for i in range(12)}
    told = push(
        sender,
        {"time": "2026-08-22T09:00:00Z", "metric": "a", "value": 1},
        {"time": "2026-08-22T09:00:00Z", "metric": "b", "value": 1, **long},
    )
    assert told["points"] == 1 and told["refused"] == 1 and "a series key of" in told["refusals"]
    request = otlp_of("gauge", [(0, 1.0, {}), (0, 2.0, long)], name="c")
    answer = sender.post("/v1/metrics", data=request.SerializeToString(), content_type=PROTOBUF)
    assert answer.status_code == 200 and b"a series key of" in answer.content
    assert len(store.read(Stream.objects.get(key="metric=c").pk)[0]) == 1


def test_places_are_the_same_whoever_asks(small_world, db):
    assert places.in_force() == DEFAULTS
    place = places.place_of("boarding_time", (("a", "1"), ("at_most", "5")), DEFAULTS)
    assert place.attributes == (("a", "1"),) and place.is_direct
