"""The logbook at work: looked at before it is taken in, changed in one go and undone, lanes, quiet spans, what entries change."""

from datetime import UTC, datetime

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile

from tests.server.conftest import run_jobs, signed_in
from watchtide.core.scoring.rows import Label
from watchtide.server.logbook import services as logbook
from watchtide.server.logbook.models import ChangeSet, Entry, Revision
from watchtide.server.scans.models import Scan
from watchtide.tables import clock, labels

H = 3_600 * 10**9


@pytest.fixture
def start(small_world):
    return small_world["scan"].span_from_ns


def send(api, url, text, name="more.csv", **fields):
    data = text if isinstance(text, bytes) else text.encode()
    return api.post(url, {"file": SimpleUploadedFile(name, data), **fields}, format="multipart")


def post(api, url, body=None):
    return api.post(url, body or {}, format="json")


def iso(ns):
    return datetime.fromtimestamp(ns / 1e9, UTC).isoformat()


def three(start):
    """A file of three rows: one that stands already, one about an entry that stands otherwise, one that is new."""
    known = logbook.as_label(Entry.objects.get(scope="metric=level,place=pier", verdict="incident"))
    moved = Label(known.start + H, known.end + H, known.series, "incident", cause="seal leaked")
    new = Label(start + 10 * H, start + 12 * H, "metric=level,place=rock", "foreseen", cause="market")
    same = logbook.as_label(Entry.objects.filter(scope="metric=level,place=quay").first())
    return [same, moved, new]


class TestTakingIn:
    def test_a_look_says_what_would_happen_and_stores_nothing(self, api, start):
        before = logbook.version()
        got = send(api, "/api/v1/logbook/import/look", labels.to_csv(three(start))).json()
        assert (got["new"], got["same"], got["changes"]) == (1, 1, 1)
        changes = next(r for r in got["rows"] if r["state"] == "changes")
        assert {c["name"] for c in changes["changed"]} == {"start", "end", "cause"}
        assert logbook.version() == before

    @pytest.mark.parametrize(
        ("matches", "added", "changed", "skipped"), [("skip", 1, 0, 2), ("change", 1, 1, 1), ("add", 2, 0, 1)]
    )
    def test_what_is_about_an_entry_is_skipped_changed_or_added(
        self, api, start, matches, added, changed, skipped
    ):
        entries = Entry.objects.count()
        got = send(api, "/api/v1/logbook/import", labels.to_csv(three(start)), matches=matches).json()
        assert (got["added"], got["changed"], got["skipped"]) == (added, changed, skipped)
        assert Entry.objects.count() == entries + added
        pier = logbook.live().filter(scope="metric=level,place=pier", verdict="incident")
        assert pier.count() == (2 if matches == "add" else 1)
        assert pier.filter(cause="seal leaked").exists() == (matches != "skip")

    @pytest.mark.parametrize("matches", ["change", "add"])
    def test_an_import_is_undone_whole(self, api, start, matches):
        def content():
            return sorted(repr(logbook.as_label(e)) for e in logbook.live())

        before = content()
        done = send(api, "/api/v1/logbook/import", labels.to_csv(three(start)), matches=matches).json()
        assert content() != before
        got = post(api, f"/api/v1/logbook/changes/{done['change_set']}/undo")
        assert got.json() == {"undone": 2, "left": 0} and content() == before
        assert post(api, f"/api/v1/logbook/changes/{done['change_set']}/undo").status_code == 409

    def test_undoing_leaves_what_was_changed_again_since(self, api, start):
        done = send(api, "/api/v1/logbook/import", labels.to_csv(three(start)), matches="change").json()
        moved = logbook.live().get(cause="seal leaked")
        api.patch(f"/api/v1/logbook/{moved.pk}", {"cause": "seal leaked badly"}, format="json")
        got = post(api, f"/api/v1/logbook/changes/{done['change_set']}/undo").json()
        assert got == {"undone": 1, "left": 1}
        assert logbook.live().filter(cause="seal leaked badly").exists()
        assert not logbook.live().filter(cause="market").exists()

    @pytest.mark.parametrize(
        ("name", "text", "place", "remedy"),
        [
            ("l.csv", "start,end\n2026-08-03,2026-08-02\n", "line 2, column end", "swap"),
            ("l.csv", "start,verdict\n2026-08-03T00:00Z,perhaps\n", "line 2", "incident"),
            ("l.csv", "start\n2026-08-03T00:00Z\nsoon\n", "line 3", ""),
            ("l.csv", "begin\n2026-08-03\n", "line 1", "start"),
            ("l.json", '[{"start": "2026-08-03T00:00Z"}, {"end": "x"}]', "entry 2", ""),
            ("l.ics", "BEGIN:VCALENDAR\nBEGIN:VEVENT\nSUMMARY:x\nEND:VEVENT\nEND:VCALENDAR\n", "event", "DTSTART"),
            ("l.csv", b"start,cause\n2026-08-03T00:00Z,\xff\xfe\n", "line 2", "UTF-8"),
        ],
    )  # fmt: skip
    @pytest.mark.parametrize("door", ["import", "import/look"])
    def test_a_broken_file_is_refused_by_line_and_remedy_and_nothing_is_kept(
        self, api, door, name, text, place, remedy
    ):
        entries = Entry.objects.count()
        got = send(api, f"/api/v1/logbook/{door}", text, name)
        body = got.json()
        assert got.status_code == 400 and place in body["place"] and body["remedy"], body
        assert remedy.lower() in (body["remedy"] + body["title"]).lower()
        assert Entry.objects.count() == entries

    def test_a_calendar_of_another_program_comes_in(self, api):
        """Folded lines, a zone by name, an all-day event, one that recurs."""
        text = "\r\n".join(
            [
                "BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:-//elsewhere//EN", "BEGIN:VEVENT", "UID:1",
                "DTSTART;TZID=Europe/Dublin:20260810T090000", "DTEND;TZID=Europe/Dublin:20260810T100000",
                "SUMMARY:crane inspec", " tion on the quay", "END:VEVENT", "BEGIN:VEVENT", "UID:2",
                "DTSTART;VALUE=DATE:20260815", "SUMMARY:market", "END:VEVENT", "BEGIN:VEVENT", "UID:3",
                "DTSTART:20260803T000000Z", "DTEND:20260803T010000Z", "RRULE:FREQ=WEEKLY;COUNT=3", "SUMMARY:dredging",
                "END:VEVENT", "END:VCALENDAR", "",
            ]
        )  # fmt: skip
        assert (
            send(api, "/api/v1/logbook/import", text, "work.ics", zone="Europe/Dublin").json()["added"] == 5
        )
        inspection = logbook.live().get(note="crane inspection on the quay")
        assert iso(inspection.start_ns) == "2026-08-10T08:00:00+00:00"
        market = logbook.live().get(note="market")
        # All day is midnight to midnight in the zone that was told.
        assert (
            iso(market.start_ns) == "2026-08-14T23:00:00+00:00"
            and market.end_ns - market.start_ns == 24 * H - 1
        )
        assert logbook.live().filter(note="dredging").count() == 3

    @pytest.mark.parametrize("kind", ["csv", "json", "ics"])
    def test_what_goes_out_comes_back_the_same(self, api, start, kind):
        logbook.take_in(three(start), "ann", matches="add")
        nasty = Label(
            start,
            start + 1,
            "metric=level,place=a%2Cb",
            "unsure",
            "k",
            '=cmd"|,x',
            "line one\nline two",
            "bo",
        )
        logbook.take_in([nasty], "ann")
        out = api.get(f"/api/v1/logbook/export?kind={kind}").content
        back = labels.read_labels(out, f"logbook.{kind}")
        assert sorted(map(repr, back)) == sorted(repr(logbook.as_label(e)) for e in logbook.live())
        again = send(api, "/api/v1/logbook/import", out, f"logbook.{kind}").json()
        assert again["added"] == again["changed"] == 0 and again["change_set"] is None

    def test_another_kind_or_treatment_is_refused(self, api, start):
        assert api.get("/api/v1/logbook/export?kind=xls").status_code == 400
        got = send(api, "/api/v1/logbook/import", labels.to_csv(three(start)), matches="guess")
        assert got.json()["place"] == "matches"


class TestFinding:
    def test_filters_go_together(self, api, start, stream_of):
        logbook.take_in(three(start), "bo", matches="add")
        ask = lambda query: {
            e["cause"] or e["scope"] for e in api.get(f"/api/v1/logbook?{query}").json()["items"]
        }
        assert ask("text=seal") == {"seal leaked"}
        assert ask("text=seal+pier") == {"seal leaked"} and ask("text=seal+rock") == set()
        assert ask("verdict=foreseen") == {"market"}
        before, after = (clock.format_time(start + t) for t in (-(10**6), 11 * 3_600 * 10**9))
        assert "market" in ask(f"from={clock.format_time(start)}&to={after}") and ask(f"to={before}") == set()
        # The reviewed span over all of level covers the rock too.
        assert ask(f"stream={stream_of('rock').pk}") == {"market", "metric=level"}
        assert api.get("/api/v1/logbook?from=soon").json()["place"] == "from"

    def test_lanes_are_by_scope_and_hold_the_same_entries(self, api, start):
        logbook.take_in(three(start), "bo", matches="add")
        got = api.get("/api/v1/logbook/lanes").json()
        assert sum(lane["count"] for lane in got["lanes"]) + got["others"] == logbook.live().count()
        assert [lane["count"] for lane in got["lanes"]] == sorted(
            (x["count"] for x in got["lanes"]), reverse=True
        )
        only = api.get("/api/v1/logbook/lanes?verdict=foreseen").json()["lanes"]
        assert [(x["scope"], x["count"]) for x in only] == [("metric=level,place=rock", 1)]


class TestInOneGo:
    def test_many_entries_are_changed_and_changed_back(self, api):
        ids = list(logbook.live().filter(verdict="incident").values_list("pk", flat=True))
        done = post(
            api, "/api/v1/logbook/bulk", {"entries": ids, "verdict": "foreseen", "cause": "drill"}
        ).json()
        assert done["changed"] == len(ids)
        assert set(logbook.live().filter(pk__in=ids).values_list("verdict", "cause")) == {
            ("foreseen", "drill")
        }
        assert Revision.objects.filter(change_set_id=done["id"]).count() == len(ids)
        post(api, f"/api/v1/logbook/changes/{done['id']}/undo")
        assert set(logbook.live().filter(pk__in=ids).values_list("verdict", flat=True)) == {"incident"}

    def test_many_are_taken_out_and_put_back(self, api):
        ids = list(logbook.live().values_list("pk", flat=True))
        done = post(api, "/api/v1/logbook/bulk", {"entries": ids, "take_out": True}).json()
        assert not logbook.live().exists() and done["removed"] == len(ids)
        assert api.get("/api/v1/logbook/changes").json()["items"][0]["id"] == done["id"]
        post(api, f"/api/v1/logbook/changes/{done['id']}/undo")
        assert logbook.live().count() == len(ids)

    def test_nothing_of_it_happens_when_one_cannot_be(self, api):
        ids = list(logbook.live().values_list("pk", flat=True))
        for body in (
            {"entries": [*ids, 999_999], "cause": "x"}, {"entries": ids}, {"entries": ids, "take_out": True, "cause": "x"},
            {"entries": ids, "scope": "no pair"}, {"entries": []},
        ):  # fmt: skip
            assert post(api, "/api/v1/logbook/bulk", body).status_code in (400, 409), body
        assert not ChangeSet.objects.filter(title__contains="by hand").exists()

    def test_a_viewer_changes_nothing(self, small_world, db):
        vic = signed_in("vic")
        one = logbook.live().first().pk
        for url, body in (
            ("bulk", {"entries": [one], "cause": "x"}), ("quiet", {"end": "2030-01-01T00:00Z", "reason": "x"}),
            ("effect", {"entries": [one]}),
        ):  # fmt: skip
            assert vic.post(f"/api/v1/logbook/{url}", body, format="json").status_code == 403

    def test_no_door_rewrites_what_was_changed(self, api):
        ids = list(logbook.live().values_list("pk", flat=True))
        done = post(api, "/api/v1/logbook/bulk", {"entries": ids, "cause": "x"}).json()
        before = list(Revision.objects.order_by("pk").values_list("pk", "content"))
        for method in (api.put, api.patch, api.delete):
            assert method(f"/api/v1/logbook/changes/{done['id']}/undo", {}, format="json").status_code == 405
            assert method("/api/v1/logbook/changes", {}, format="json").status_code == 405
        post(api, f"/api/v1/logbook/changes/{done['id']}/undo")
        # Undoing writes more history; none of it changes.
        assert list(Revision.objects.order_by("pk").values_list("pk", "content"))[: len(before)] == before


class TestQuiet:
    def test_planned_work_is_marked_and_left_out_of_figures_and_of_what_is_open(
        self, api, small_world, start, stream_of
    ):
        scan = small_world["scan"].pk
        quay = stream_of("quay")
        card = api.get(f"/api/v1/scans/{scan}/scorecard").json()["figures"]
        table = api.get("/api/v1/tide").json()
        body = {
            "scope": quay.key,
            "start": iso(start + 190 * H),
            "end": iso(start + 220 * H),
            "reason": "crane",
        }
        post(api, "/api/v1/logbook/quiet", body).json()
        again = api.get(f"/api/v1/scans/{scan}/scorecard").json()
        after = again["figures"]
        assert again["quiet_findings"] == 1
        # The finding, its incident and the samples of these hours are out of every figure.
        assert after["events"]["tp_labels"] == card["events"]["tp_labels"] - 1
        assert after["events"]["tp_findings"] == card["events"]["tp_findings"] - 1
        assert after["false_per_week"]["stream_weeks"] < card["false_per_week"]["stream_weeks"]
        found = api.get(f"/api/v1/scans/{scan}/streams/{quay.pk}/window").json()["findings"]
        assert [f["quiet"] for f in found] == [True, False, False]
        # The third spike is open; made quiet it is told, but not open.
        late = {**body, "start": iso(start + 770 * H), "end": iso(start + 790 * H)}
        post(api, "/api/v1/logbook/quiet", late)
        now = api.get("/api/v1/tide").json()
        assert now["open"] == table["open"] - 1 and now["quiet"] == 1
        assert quay.pk not in {f["stream"] for f in now["strongest"]}
        # What is over already was noted by mistake: with it gone the figures are as before.
        for q in api.get("/api/v1/logbook/quiet").json()["items"]:
            assert api.delete(f"/api/v1/logbook/quiet/{q['id']}").status_code == 204
        assert api.get(f"/api/v1/scans/{scan}/scorecard").json()["figures"] == card
        running = post(api, "/api/v1/logbook/quiet", {**body, "end": "2035-01-01T00:00Z"}).json()
        api.delete(f"/api/v1/logbook/quiet/{running['id']}")
        (ended,) = api.get("/api/v1/logbook/quiet").json()["items"]
        assert ended["ended_by"] == "ann" and ended["end"] < "2035"

    def test_work_that_has_not_begun_is_taken_away_whole(self, api):
        made = post(
            api,
            "/api/v1/logbook/quiet",
            {"start": "2035-01-01T00:00Z", "end": "2035-01-02T00:00Z", "reason": "x"},
        )
        api.delete(f"/api/v1/logbook/quiet/{made.json()['id']}")
        assert api.get("/api/v1/logbook/quiet").json()["items"] == [] and logbook.quiet_spans() == []

    @pytest.mark.parametrize(
        "body",
        [{"end": "2026-01-01T00:00Z", "start": "2026-02-01T00:00Z", "reason": "x"}, {"end": "2036-01-01T00:00Z"},
         {"end": "soon", "reason": "x"}, {"scope": "nothing", "end": "2036-01-01T00:00Z", "reason": "x"}],
    )  # fmt: skip
    def test_what_cannot_be_planned_is_refused(self, api, body):
        assert post(api, "/api/v1/logbook/quiet", body).status_code == 400


class TestEffect:
    def test_a_new_incident_is_left_out_and_what_that_moves_is_shown(
        self, api, small_world, start, stream_of
    ):
        rock = stream_of("rock")
        entry = {
            "scope": rock.key, "start": iso(start + 600 * H), "end": iso(start + 700 * H), "verdict": "incident",
        }  # fmt: skip
        made = post(api, "/api/v1/logbook", entry).json()["id"]
        told = post(api, "/api/v1/logbook/effect", {"entries": [made]}).json()
        assert told["before"] == small_world["scan"].pk
        run_jobs()
        got = api.get(f"/api/v1/logbook/effect?before={told['before']}&after={told['after']}").json()
        (row,) = got["streams"]
        assert row["stream"] == rock.pk and row["left_out_after"] == row["left_out_before"] + 1
        assert row["moved"] is not None and row["band"] is not None
        assert (
            row["kept"] + len(row["gone"])
            == Scan.objects.get(pk=told["before"]).findings.filter(stream=rock).count()
        )

    def test_foreseen_days_become_known_days_of_the_plan(self, api, start, stream_of):
        days = [
            Label(
                start + k * 168 * H,
                start + (k * 168 + 23) * H,
                "metric=level,place=rock",
                "foreseen",
                cause="market",
            )
            for k in (0, 1, 2, 3)
        ]
        logbook.take_in(days, "ann")
        ids = list(logbook.live().filter(verdict="foreseen").values_list("pk", flat=True))
        told = post(api, "/api/v1/logbook/effect", {"entries": ids, "as_known_days": True}).json()
        run_jobs()
        scan = Scan.objects.select_related("plan_version").get(pk=told["after"])
        assert "Days of the logbook" in scan.plan_version.text and scan.finished_at is not None
        assert (
            api.get(f"/api/v1/logbook/effect?before={told['before']}&after={told['after']}").status_code
            == 200
        )

    def test_entries_of_no_stream_change_nothing(self, api, start):
        logbook.take_in([Label(start, start, "metric=elsewhere", "foreseen")], "ann")
        pk = logbook.live().get(scope="metric=elsewhere").pk
        assert post(api, "/api/v1/logbook/effect", {"entries": [pk]}).status_code == 409
        assert api.get("/api/v1/logbook/effect?before=x").status_code == 400


def test_quiet_makes_a_published_card_stale(api, small_world, start):
    job = post(api, f"/api/v1/scans/{small_world['scan'].pk}/publish", {"title": "x"}).json()["job"]
    run_jobs()
    number = api.get(f"/api/v1/jobs/{job}").json()["result"]["published"]
    post(
        api,
        "/api/v1/logbook/quiet",
        {"start": iso(start), "end": iso(start + 300 * H), "reason": "storm drill"},
    )
    since = api.get(f"/api/v1/published/{number}/since").json()
    assert since["is_stale"] and since["quiet_changed"] and since["entries_new"] == 0
    assert since["figures"]["events"]["tp_findings"] == 1
