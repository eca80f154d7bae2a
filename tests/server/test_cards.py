"""Scorecards: cut finer, a level chosen and adopted, scans beside one another, published and frozen, sent out."""

import csv
import io
import json
from xml.etree import ElementTree

import numpy as np
import pytest

from tests.server.conftest import run_jobs, signed_in
from watchtide.core.scoring.card import score
from watchtide.core.scoring.outcomes import Setting
from watchtide.core.scoring.rows import Label
from watchtide.server import storage
from watchtide.server.cards import counting, publishing
from watchtide.server.cards.models import Published
from watchtide.server.scans import reading, sheets
from watchtide.server.scans import services as scans
from watchtide.server.scans.models import Card, Scan, ScanStream, Standing
from watchtide.server.streams import store
from watchtide.server.streams.models import Batch, Stream
from watchtide.tables import clock, labels, results


@pytest.fixture
def card_url(small_world):
    return f"/api/v1/scans/{small_world['scan'].pk}/scorecard"


def post(api, url, body=None):
    return api.post(url, body or {}, format="json")


def test_the_cuts_of_a_card_sum_to_it(api, card_url):
    card = api.get(card_url).json()
    e = card["figures"]["events"]
    for name in ("tp_findings", "fp_findings"):
        for cut in ("by_stream", "by_family", "by_month"):
            assert sum(row[name] for row in card[cut]) == e[name], cut
    assert {r["name"] for r in card["by_family"]} == {"level"}
    quay = next(r for r in card["by_stream"] if r["name"].endswith("quay"))
    # Two of its three spikes are in the logbook, the third lies outside what was looked through.
    assert (quay["tp_labels"], quay["fn_labels"], quay["unjudged"]) == (2, 0, 1)
    assert card["judged_weeks"] > card["figures"]["false_per_week"]["stream_weeks"] > 0
    assert len(card["delays"]) == e["tp_labels"]


def test_the_false_ones_of_a_card_are_findings_that_can_be_judged(api, card_url, small_world):
    finding = next(f for f in reading.finding_rows(small_world["scan"].findings.all()) if not f["verdict"])
    post(api, f"/api/v1/findings/{finding['id']}/verdict", {"verdict": "false-alarm"})
    rows = api.get(card_url).json()["false"]
    items = api.get(f"{card_url}/false").json()["items"]
    named = ("stream", "start", "end", "kind", "score")
    assert [[i[n] for n in named] for i in items] == [[r[n] for n in named] for r in rows]
    assert {i["id"]: i["verdict"] for i in items}[finding["id"]] == "false-alarm"
    assert api.get(f"{card_url}/false?family=nothing").status_code == 404


def test_a_part_of_a_scan_is_counted_by_itself(api, card_url, stream_of):
    pier = stream_of("pier")
    card = api.get(f"{card_url}?streams={pier.pk}").json()
    assert [r["stream"] for r in card["by_stream"]] == [pier.pk]
    assert (card["figures"]["events"]["tp_labels"], card["figures"]["events"]["fn_labels"]) == (0, 1)
    whole = api.get(card_url).json()
    first = clock.parse_one(whole["span"]["start"])
    day = api.get(
        f"{card_url}?from={whole['span']['start']}&to={clock.format_time(first + 250 * 3_600 * 10**9)}"
    ).json()
    # Of the spikes at 200 and 500 hours only the first is in it.
    assert day["figures"]["events"]["tp_labels"] == 1
    assert api.get(f"{card_url}?family=nothing").status_code == 404
    assert api.get(f"{card_url}?streams=x").json()["place"] == "streams"
    assert api.get(f"{card_url}?from=soon").json()["place"] == "from"
    assert api.get(f"{card_url}?from=2026-08-02&to=2026-08-01").status_code == 400


def test_a_sheet_gives_what_flagging_anew_gives_and_is_made_again_when_lost(api, card_url, small_world):
    scan = Scan.objects.get(pk=small_world["scan"].pk)
    kept = storage.sheets().path(sheets.name_of(scan))
    assert kept.is_file(), "the scan keeps its scores"
    before = api.get(card_url).json()
    rows = list(scan.streams.select_related("stream", "scan__plan_version").order_by("stream_id"))
    read = sheets.Sheets(scan, rows)
    assert list(read) == [row.stream.key for row in rows]
    for row, sheet in zip(rows, read.values(), strict=True):
        anew = sheets.of(scans.rescan(row))
        for name in ("times", "odd", "in_finding"):
            assert (getattr(sheet, name) == getattr(anew, name)).all()
        assert sheet.z.tobytes() == anew.z.tobytes() and sheet.key == row.stream.key
    kept.unlink()
    Card.objects.all().delete()
    after = api.get(card_url).json()
    assert kept.is_file()
    assert {k: v for k, v in after.items() if k != "computed_at"} == {
        k: v for k, v in before.items() if k != "computed_at"
    } | {"scan": after["scan"]}


def test_a_sheet_that_is_altered_on_disk_is_made_anew_while_it_is_read(api, small_world):
    scan = Scan.objects.get(pk=small_world["scan"].pk)
    rows = list(scan.streams.select_related("stream", "scan__plan_version").order_by("stream_id"))
    expected = {key: sheet.z.tobytes() for key, sheet in sheets.Sheets(scan, rows).items()}
    path = storage.sheets().path(sheets.name_of(scan))
    content = bytearray(path.read_bytes())
    for at in range(1_000, len(content) - 4_096, 2_000):
        content[at] ^= 0xFF
    path.write_bytes(content)
    assert {key: sheet.z.tobytes() for key, sheet in sheets.Sheets(scan, rows).items()} == expected
    assert path.read_bytes() != bytes(content)


def test_what_is_too_much_for_a_request_is_counted_by_a_job(api, card_url, monkeypatch):
    Card.objects.all().delete()
    monkeypatch.setattr(counting, "MOST_SAMPLES", 10)
    first, again = api.get(card_url), api.get(card_url)
    assert first.status_code == again.status_code == 202
    assert first.json() == again.json(), "asking twice does not count twice"
    run_jobs()
    assert api.get(card_url).json()["figures"]["events"]["tp_labels"] == 2


class TestLevels:
    def test_the_best_level_under_each_constraint(self, api, small_world):
        url = f"/api/v1/scans/{small_world['scan'].pk}/level"
        got = api.get(f"{url}?min_recall=0.5").json()
        assert got["is_met"] and got["apparent"]["recall"] >= 0.5 and got["level"] in got["feasible"]
        assert got["cross_validated"] is not None and len(got["block_levels"]) == 5
        assert api.get(f"{url}?max_gap=0.9&by=points").json()["apparent"]["specificity"] > 0.9
        few = api.get(f"{url}?max_false_per_week=0.5").json()
        assert few["is_met"] and few["apparent"]["false_per_week"] <= 0.5
        # A finding that windows make is there at every level.
        assert not api.get(f"{url}?max_false_per_week=0").json()["is_met"]
        # The third incident shows in no sample: no level finds it.
        assert not api.get(f"{url}?min_recall=1").json()["is_met"]
        costs = api.get(f"{url}?cost_miss=5&cost_false=1").json()
        assert costs["is_met"]

    @pytest.mark.parametrize(
        "query",
        ["", "min_recall=2", "min_recall=0.5&max_gap=0.1", "max_gap=0.1", "cost_miss=1", "min_recall=nan"],
    )
    def test_a_constraint_that_cannot_be_read_is_refused(self, api, small_world, query):
        assert api.get(f"/api/v1/scans/{small_world['scan'].pk}/level?{query}").status_code == 400

    def test_adopting_makes_a_version_and_scans_by_it(self, api, small_world):
        scan = small_world["scan"]
        made = post(api, f"/api/v1/scans/{scan.pk}/level", {"level": 7.25}).json()
        run_jobs()
        version = Scan.objects.get(pk=made["id"]).plan_version
        assert scans.plan_of(version.text).flag.level == {"sigmas": 7.25}
        assert version.plan_id == scan.plan_version.plan_id and version.number > scan.plan_version.number
        assert set(Standing.objects.values_list("scan_id", flat=True)) == {made["id"]}
        assert post(api, f"/api/v1/scans/{scan.pk}/level", {"level": 1}).status_code == 400

    def test_a_viewer_may_look_but_not_adopt_or_publish(self, small_world, db):
        vic = signed_in("vic")
        scan = small_world["scan"].pk
        assert vic.get(f"/api/v1/scans/{scan}/level?min_recall=0.5").status_code == 200
        assert vic.post(f"/api/v1/scans/{scan}/level", {"level": 5}, format="json").status_code == 403
        assert vic.post(f"/api/v1/scans/{scan}/publish", {"title": "x"}, format="json").status_code == 403
        assert vic.get("/api/v1/published").status_code == 200


def trial(api, plan, mode="fit", name="harbour watch"):
    ids = list(Stream.objects.order_by("pk").values_list("pk", flat=True))
    made = post(api, "/api/v1/scans", {"plan": plan, "streams": ids, "mode": mode, "name": name}).json()
    run_jobs()
    return made["id"]


def test_a_locked_span_is_judged_apart_and_says_who_had_seen_it(api, small_world):
    first = small_world["scan"].span_from_ns // 10**9
    day = 86_400
    from datetime import UTC, datetime

    ends = [datetime.fromtimestamp(first + k * day, UTC).strftime("%Y-%m-%dT%H:%MZ") for k in (20, 26)]
    scan = trial(api, {"flag": {"level": {"sigmas": 6}}, "baseline": {"split": {"locked": "..".join(ends)}}})
    card = api.get(f"/api/v1/scans/{scan}/scorecard").json()
    # The spike at 500 hours is the one incident between day 20 and 26.
    assert card["locked"]["events"]["tp_labels"] == 1 and card["locked"]["events"]["fn_labels"] == 0
    assert card["locked"]["broken"].startswith("v1 of this plan had trained on")
    fresh = trial(api, {"baseline": {"split": {"locked": "..".join(ends)}}}, name="a plan of its own")
    assert api.get(f"/api/v1/scans/{fresh}/scorecard").json()["locked"]["broken"] == ""
    level = api.get(f"/api/v1/scans/{scan}/level?min_recall=0.5").json()
    assert level["locked"]["hits"] == 1 and level["apparent"]["hits"] + level["apparent"]["misses"] == 2


class TestComparison:
    def test_two_plans_and_a_replay_on_what_all_judged(self, api, small_world):
        scan = small_world["scan"].pk
        blunt = trial(api, {"flag": {"level": {"sigmas": 40}}})
        got = api.get(f"/api/v1/comparison?scans={scan},{blunt}").json()
        one, other = got["scans"]
        assert one["against"] is None and one["events"]["tp_labels"] == 2
        assert other["events"]["tp_labels"] == 0 and other["against"]["found_by_one_only"] == 2
        assert other["against"]["recall"]["difference"] == pytest.approx(-2 / 3)
        # The other way round the difference turns its sign.
        turned = api.get(f"/api/v1/comparison?scans={blunt},{scan}").json()["scans"][1]["against"]
        assert turned["recall"]["difference"] == pytest.approx(2 / 3)

    def test_in_sample_beside_its_replay(self, api, small_world):
        scan = small_world["scan"]
        assert api.get(f"/api/v1/scans/{scan.pk}/scorecard").json()["replay"] is None
        replayed = trial(
            api, json.loads(json.dumps(scans.plan_of(scan.plan_version.text).as_data())), "replay"
        )
        assert Scan.objects.get(pk=replayed).plan_version_id == scan.plan_version_id
        assert api.get(f"/api/v1/scans/{scan.pk}/scorecard").json()["replay"] == replayed
        got = api.get(f"/api/v1/comparison?scans={scan.pk},{replayed}").json()
        # Both are counted from where the replay begins to judge.
        assert got["span_from"] > clock.format_time(scan.span_from_ns)
        assert {s["mode"] for s in got["scans"]} == {"fit", "replay"}

    @pytest.mark.parametrize(
        ("ask", "status"),
        [("1", 400), ("{scan},{scan}", 400), ("1,2,3,4,5,6,7", 400), ("{scan},999999", 404), ("a,b", 400)],
    )
    def test_what_cannot_be_compared_is_refused(self, api, small_world, ask, status):
        scan = small_world["scan"].pk
        assert api.get(f"/api/v1/comparison?scans={ask.format(scan=scan)}").status_code == status


def test_the_trend_has_a_line_for_each_version(api, small_world):
    scan = small_world["scan"]
    other = trial(api, {"flag": {"level": {"sigmas": 40}}})
    rows = api.get(f"/api/v1/plans/{scan.plan_version.plan_id}/trend").json()["items"]
    assert [r["scan"] for r in rows] == [scan.pk, other]
    assert all(r["months"] for r in rows)


class TestPublished:
    @pytest.fixture
    def published(self, api, small_world):
        scan = small_world["scan"].pk
        job = post(api, f"/api/v1/scans/{scan}/publish", {"title": "For the harbour master"}).json()["job"]
        run_jobs()
        return api.get(f"/api/v1/jobs/{job}").json()["result"]["published"]

    def test_its_own_copies_give_its_figures_again(self, api, published):
        """With nothing but what was frozen, the scorer says the same."""
        row = Published.objects.get(pk=published)
        points = {s.key: publishing.unpack(s.points) for s in row.streams.all()}
        found = results.read_findings(publishing.findings_csv(row), "findings.csv")
        setting = Setting(step_ns=row.scan.step_ns, longest_season_ns=row.scan.longest_season_ns)
        anew = score(found, publishing.frozen_labels(row), points, setting).figures
        shown = api.get(f"/api/v1/published/{published}").json()["figures"]
        assert json.loads(json.dumps(anew["events"])) == shown["events"]
        assert json.loads(json.dumps(anew["points"])) == shown["points"]
        # The Parquet file holds the same scores.
        data = api.get(f"/api/v1/published/{published}/points.parquet").content
        again = results.read_points(data, "points.parquet")
        for key, p in points.items():
            assert (again[key].times == p.times).all() and (again[key].flagged == p.flagged).all()

    def test_it_does_not_change_and_says_what_has(self, api, published, small_world, stream_of):
        url = f"/api/v1/published/{published}"
        before = api.get(url).json()
        assert not api.get(f"{url}/since").json()["is_stale"]
        # The unjudged spike on the rock turns out to be an incident.
        first = small_world["scan"].span_from_ns
        entry = {
            "scope": stream_of("rock").key, "start": clock.format_time(first + 649 * 3_600 * 10**9), "end": clock.format_time(first + 652 * 3_600 * 10**9),
            "verdict": "incident",
        }  # fmt: skip
        post(api, "/api/v1/logbook", entry)
        since = api.get(f"{url}/since").json()
        assert since["is_stale"] and (since["entries_new"], since["entries_gone"]) == (1, 0)
        assert since["figures"]["events"]["tp_labels"] == before["figures"]["events"]["tp_labels"] + 1
        assert api.get(url).json() == before
        # An entry of streams that were not counted changes nothing.
        post(api, "/api/v1/logbook", {**entry, "scope": "metric=elsewhere"})
        assert api.get(f"{url}/since").json()["entries_new"] == 1

    def test_samples_that_came_since_change_nothing_and_others_in_their_place_do(
        self, api, published, small_world, stream_of
    ):
        since = f"/api/v1/published/{published}/since"
        # A later scan has read more: what was counted is still held.
        ScanStream.objects.filter(scan_id=small_world["scan"].pk).update(samples_digest="other")
        quay = stream_of("quay")

        def come_in(key, at_ns):
            batch = Batch.objects.create(key=key * 64, source="late")
            store.write_blocks(batch, [(quay.pk, np.array([at_ns]), np.array([1.0]))])
            Batch.objects.filter(pk=batch.pk).update(accepted_at="2026-11-01T00:00Z")

        come_in("y", quay.last_ns + 3_600 * 10**9)
        assert not api.get(since).json()["is_stale"]
        come_in("z", quay.first_ns + 3_600 * 10**9)
        told = api.get(since).json()
        assert told["is_stale"] and told["streams_changed"] == 1

    def test_it_outlives_its_scan(self, api, published, small_world):
        Published.objects.filter(pk=published).update(scan=None)
        got = api.get(f"/api/v1/published/{published}").json()
        assert got["scan"] is None and got["figures"]["events"]["tp_labels"] == 2
        assert api.get(f"/api/v1/published/{published}/since").json()["is_scan_gone"]

    def test_no_door_changes_it(self, api, published):
        for method in (api.put, api.patch, api.delete, api.post):
            assert method(f"/api/v1/published/{published}", {}, format="json").status_code == 405

    def test_a_logbook_that_changed_meanwhile_is_not_published_unseen(self, api, small_world, stream_of):
        scan = small_world["scan"].pk
        job = post(api, f"/api/v1/scans/{scan}/publish", {"title": "x"}).json()["job"]
        span = {"start": "2026-08-01T00:00:00Z", "end": "2026-08-01T00:00:00Z"}
        post(api, "/api/v1/logbook", {"scope": stream_of("rock").key, "verdict": "incident", **span})
        run_jobs()
        row = api.get(f"/api/v1/jobs/{job}").json()
        assert row["state"] == "failed" and "logbook has changed" in row["message"]
        assert not Published.objects.exists()

    def test_it_is_listed_and_has_its_files(self, api, published):
        (row,) = api.get("/api/v1/published").json()["items"]
        assert row["title"] == "For the harbour master" and row["author"] == "ann"
        url = f"/api/v1/published/{published}"
        assert "For the harbour master" in api.get(f"{url}/card.html").content.decode()
        assert api.get(f"{url}/plan.yaml").content
        known = labels.read_labels(api.get(f"{url}/labels.json").content, "labels.json")
        assert all(isinstance(x, Label) for x in known) and known
        assert api.get(f"{url}/secrets.txt").status_code == 404


class TestFiles:
    def test_html_needs_nothing_from_outside(self, api, card_url):
        answer = api.get(f"{card_url}.html")
        page = answer.content.decode()
        assert "attachment" in answer["Content-Disposition"]
        assert "<script" not in page and "http://" not in page and "https://" not in page
        ElementTree.fromstring(page.partition("<body>")[2].join(("<body>", "")).partition("</html>")[0])
        assert "@page{size:A4" in page and "level · quay" in page

    def test_csv_has_every_figure_with_its_interval(self, api, card_url):
        rows = list(csv.DictReader(io.StringIO(api.get(f"{card_url}.csv").content.decode())))
        figures = api.get(card_url).json()["figures"]
        precision = next(r for r in rows if r["figure"] == "Precision")
        assert float(precision["value"]) == figures["events"]["precision"]
        assert float(precision["low"]) <= float(precision["value"]) <= float(precision["high"])
        assert {"Recall", "F1", "Specificity by sample", "Precision by range"} <= {r["figure"] for r in rows}

    def test_json_is_the_figures(self, api, card_url):
        got = json.loads(api.get(f"{card_url}.json").content)
        assert got["events"] == api.get(card_url).json()["figures"]["events"]

    def test_precision_is_a_picture_with_its_interval(self, api, card_url):
        svg = api.get(f"{card_url}.svg").content.decode()
        ElementTree.fromstring(svg)
        assert "precision" in svg and "0.67 (" in svg and "2 of 3" in svg

    def test_another_form_is_refused(self, api, card_url):
        assert api.get(f"{card_url}.exe").status_code == 404


def test_a_span_beyond_the_scan_counts_only_what_was_scanned(api, small_world):
    """Weeks since 1970 were counted as scanned: false findings a week went towards nothing, and it took half a minute."""
    scan = small_world["scan"]
    url = f"/api/v1/scans/{scan.pk}/scorecard"
    first, last = clock.format_time(scan.span_from_ns), clock.format_time(scan.span_to_ns)
    exact = api.get(f"{url}?from={first}&to={last}").json()
    wide = api.get(f"{url}?from=1970-01-01&to=2200-01-01").json()
    assert wide | {"computed_at": ""} == exact | {"computed_at": ""}
    nothing = api.get(f"{url}?from=1970-01-01&to=1970-01-02")
    assert nothing.status_code == 400 and nothing.json()["place"] == "from"


def test_a_lost_stage_of_a_scan_under_way_is_made_again_from_the_same_samples(small_world, db, stream_of):
    """Flagging anew by the family or the fleet comes after the judging, and live samples come in between."""

    import numpy as np

    from watchtide.plan import Plan
    from watchtide.server import moments
    from watchtide.server.scans import working
    from watchtide.server.streams import store
    from watchtide.server.streams.models import Batch

    stream = stream_of("quay")
    (order,) = working.orders_of([stream], Plan(), [], "fit")
    part, _ = working.judge(order, small_world["scan"].pk)
    before = working.base_of(order, part)
    times, _ = store.read(stream.pk)
    batch = Batch.objects.create(key="c" * 64, source="later")
    store.write_blocks(batch, [(stream.pk, times[-1:] + 3_600 * 10**9, np.array([50.0]))])
    Batch.objects.filter(pk=batch.pk).update(accepted_at=moments.now())
    assert len(store.read(stream.pk)[0]) == len(times) + 1
    storage.stages().clear()
    again = working.base_of(order, part)
    assert again.expected.tobytes() == before.expected.tobytes()
    assert again.z.tobytes() == before.z.tobytes()
