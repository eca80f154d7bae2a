"""The stand-ins: they play the harbour on from where the history ends, and can be told to misbehave."""

import threading
import urllib.error
import urllib.request
from http.server import ThreadingHTTPServer

import pytest

from watchtide.demo import more, standins, world
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
    harbour.wild_until = float("inf")
    assert taps() == [2 * v for v in once]


def test_its_pages_are_sound_and_it_takes_orders(harbour):
    server = ThreadingHTTPServer(("127.0.0.1", 0), standins.handler(harbour))
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
        urllib.request.urlopen(urllib.request.Request(f"{base}/misbehave?minutes=1", method="POST"))
        assert harbour.pace == 600 and harbour.is_wild
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
