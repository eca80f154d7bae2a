"""The stand-ins: they play the harbour on from where the history ends, and can be told to misbehave."""

import smtplib
import threading
import urllib.error
import urllib.request
from email.message import EmailMessage
from http.server import ThreadingHTTPServer

import pytest

from watchtide.demo import more, postbox, standins, world
from watchtide.server import supervise
from watchtide.tables import calendars, chunks, clock, openmetrics, otlp, shape


@pytest.fixture
def harbour(tmp_path):
    return standins.Harbour(60.0, tmp_path / "harbour.json")


def test_simulated_time_goes_on_from_the_end_of_the_history_at_its_pace(harbour):
    assert harbour.advance(4) == []
    assert harbour.advance(6) == [standins.END_S, standins.END_S + 300]
    again = standins.Harbour(60.0, harbour.state_file)
    again.load()
    assert again.now_s == standins.END_S + 600


def test_a_long_pause_is_not_made_up_for(harbour):
    assert len(harbour.advance(10**6)) == standins.MOST_STEPS


def test_messages_continue_the_streams_of_the_history(harbour):
    found = otlp.points_of(standins.message(harbour, standins.END_S))
    keys = {(s.metric, s.attributes) for s in found.series}
    for family in world.build():
        for stream in family.streams:
            if family.metric in ("gate_taps", "berth_level"):
                assert (family.metric, stream.attributes[1:]) in keys
    assert not found.refused and set(found.times) == {standins.END_S * 10**9}


def test_told_to_misbehave_every_tap_is_counted_twice(harbour):
    def taps():
        found = otlp.points_of(standins.message(harbour, standins.END_S))
        pairs = zip(found.codes, found.values, strict=True)
        return [v for c, v in pairs if found.series[c].metric == "gate_taps"]

    once = taps()
    harbour.misbehave("double", 60)
    assert taps() == [2 * v for v in once]


@pytest.mark.parametrize(
    ("fault", "metric", "pick"),
    [
        (
            "storm",
            "berth_level",
            lambda before, now: all(b - a > 0.8 for a, b in zip(before, now, strict=True)),
        ),
        ("storm", "gate_taps", lambda before, now: sum(now) < 0.3 * sum(before)),
        ("silent", "gate_taps", lambda before, now: len(now) == len(before) - len(world.FARES)),
    ],
)
def test_what_goes_wrong_shows_and_ends(harbour, fault, metric, pick):
    at = standins.END_S + 12 * 3_600

    def seen():
        found = otlp.points_of(standins.message(harbour, at))
        pairs = zip(found.codes, found.values, strict=True)
        return [v for c, v in pairs if found.series[c].metric == metric]

    before = seen()
    harbour.misbehave(fault, 60)
    assert pick(before, seen())
    harbour.now_s += 3_601
    assert seen() == before


def test_a_stuck_gauge_repeats_its_level(harbour):
    def level(at):
        found = otlp.points_of(standins.message(harbour, at))
        pairs = zip(found.codes, found.values, strict=True)
        return next(v for c, v in pairs if found.series[c].metric == "berth_level")

    harbour.misbehave("stuck", 60)
    assert len({level(standins.END_S + 600 * k) for k in range(6)}) == 1


def test_mail_is_taken_and_read_on_a_page_and_the_hook_answers_as_it_is_told(harbour, tmp_path):
    box, port = postbox.Postbox(tmp_path / "mail"), supervise._free_port()
    box.serve(port)
    server = ThreadingHTTPServer(("127.0.0.1", 0), standins.handler(harbour, box))
    threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
    base = f"http://127.0.0.1:{server.server_port}"
    read = lambda path: urllib.request.urlopen(base + path).read()
    try:
        letter = EmailMessage()
        letter["From"], letter["To"], letter["Subject"] = "a@b.example", "c@d.example", "<b>Began</b>"
        letter.set_content("since 13:15")
        letter.add_alternative('<html><head></head><img src="cid:picture"></html>', subtype="html")
        letter.get_payload()[1].add_related(b"\x89PNG", "image", "png", cid="<picture>")
        letter.add_attachment("a,b", subtype="csv", filename="points.csv")
        with smtplib.SMTP("127.0.0.1", port) as sender:
            sender.send_message(letter)
        assert b"&lt;b&gt;Began&lt;/b&gt;" in read("/mail") and b"<b>" not in read("/mail")
        assert b"since 13:15" in read("/mail/1") and read("/mail/1/points.csv").strip() == b"a,b"
        assert b'src="picture"' in read("/mail/1/html") and read("/mail/1/picture") == b"\x89PNG"
        for missing in ("/mail/2", "/mail/x", "/mail/1/none", "/mail/1/2/3"):
            with pytest.raises(urllib.error.HTTPError):
                read(missing)
        post = lambda path, body=b"": urllib.request.urlopen(
            urllib.request.Request(base + path, body, headers={"webhook-id": "msg_1"}, method="POST")
        )
        assert post("/hook", b'{"id": 1}').status == 204
        post("/hook-status?of=503")
        with pytest.raises(urllib.error.HTTPError) as refused:
            post("/hook", b"{}")
        assert refused.value.code == 503 and [h.status for h in box.hooked] == [503, 204]
        assert b"msg_1" in read("/hook") and b"storm" in read("/")
        with pytest.raises(urllib.error.HTTPError):
            post("/hook-status?of=99")
    finally:
        server.shutdown()
        server.server_close()


def test_its_pages_are_sound_and_it_takes_orders(harbour, tmp_path):
    server = ThreadingHTTPServer(("127.0.0.1", 0), standins.handler(harbour, postbox.Postbox(tmp_path)))
    threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
    base = f"http://127.0.0.1:{server.server_port}"
    try:
        first, second = (
            openmetrics.parse(
                urllib.request.urlopen(f"{base}/metrics").read().decode(), now_ns=10**18, is_open=True
            )
            for _ in range(2)
        )
        assert not first.refused and {s.kind for s in first.series} == {"counter", "samples"}
        assert second.values[0] >= first.values[0]
        days = calendars.days(
            calendars.read(urllib.request.urlopen(f"{base}/calendar.ics").read()), clock.parse_one("2026-08-01"), clock.parse_one("2026-11-01"), world.ZONE
        )  # fmt: skip
        assert {"Islanders' market", "Bank holiday", "Fire drill"} <= {d.name for d in days}
        urllib.request.urlopen(urllib.request.Request(f"{base}/pace?of=600", method="POST"))
        urllib.request.urlopen(
            urllib.request.Request(f"{base}/misbehave?how=double&minutes=1", method="POST")
        )
        assert harbour.pace == 600 and harbour.has("double")
        for wrong in ("/pace", "/pace?of=fast", "/nothing"):
            with pytest.raises(urllib.error.HTTPError):
                urllib.request.urlopen(urllib.request.Request(base + wrong, method="POST"))
    finally:
        server.shutdown()
        server.server_close()


@pytest.mark.parametrize("file", more.files(), ids=lambda f: f.name)
def test_every_file_of_the_harbour_is_the_same_each_time_and_can_be_read(file):
    data = file.make()
    if file.name != "pier_gauge.parquet":
        assert data == file.make()
    how = shape.sniff(data, file.name)
    rows = sum(c.rows for c in chunks.read_chunks(data, how, file.name))
    assert rows == (more.GAUGE_SAMPLES if file.name == "pier_gauge.parquet" else rows) and rows > 300
    roles = file.given.get("roles", {})
    assert set(roles) <= set(chunks.columns_of(data, how, file.name))
