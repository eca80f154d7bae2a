"""Forecasts over REST say what the command line says of the same samples, and refuse what cannot be said."""

import csv
import io
import json
import subprocess
import sys

import numpy as np
import pytest

from watchtide.engine.scan import ahead
from watchtide.server.streams import store
from watchtide.tables import clock

HOUR = 3_600 * 10**9


def ask(api, body):
    return api.post("/api/v1/streams/forecast", body, format="json")


@pytest.fixture
def quay(small_world, stream_of):
    return stream_of("quay")


def test_it_is_what_the_command_line_says_of_the_exported_samples(api, quay, tmp_path):
    times, values = store.read(quay.pk)
    rows = zip(clock.format_times(times), values.tolist(), strict=True)
    (tmp_path / "in.csv").write_text("time,value\n" + "".join(f"{t},{v}\n" for t, v in rows))
    plan = "baseline:\n  kind: harmonic\n  seasons: [24h]\n"
    (tmp_path / "p.yaml").write_text(plan)
    high = float(np.nanmax(values)) - 1
    done = subprocess.run(
        [sys.executable, "-m", "watchtide.cli.main", "forecast", "in.csv", "--plan", "p.yaml", "--steps", "48", "--skip-last", "3",
         "--interval", "0.9", "--limit", str(high), "--tz", quay.zone, "--out", "f.csv"],
        cwd=tmp_path, check=True, capture_output=True, text=True,
    )  # fmt: skip
    (reached,) = json.loads(done.stdout)["series"].values()
    made = list(csv.DictReader(io.StringIO((tmp_path / "f.csv").read_text())))
    body = {"streams": [quay.pk], "plan": plan, "steps": 48, "skip_last": 3, "interval": 0.9}
    (got,) = ask(api, body | {"limit": {reached["side"]: high}}).json()["items"]
    assert got["time"] == [r["time"] for r in made]
    for name in ("expected", "lower", "upper"):
        assert np.allclose(got[name], [float(r[name]) for r in made], rtol=1e-6)
    shares = got["limit"].pop("by")
    assert got["limit"] == reached
    assert shares == sorted(shares) and shares[-1] == pytest.approx(reached["chance_by_end"], abs=1e-4)


def test_it_goes_until_a_time_by_the_plan_that_stands(api, quay):
    until = clock.format_time(quay.last_ns + 36 * HOUR)
    (got,) = ask(api, {"streams": [quay.pk], "until": until}).json()["items"]
    assert got["time"][-1] == until and len(got["time"]) == 36 and got["limit"] is None
    assert got["time"][0] == clock.format_time(quay.last_ns + HOUR)
    assert all(a <= b <= c for a, b, c in zip(got["lower"], got["expected"], got["upper"], strict=True))


def test_a_stated_side_is_kept_though_the_forecast_begins_past_it(api, quay):
    body = {"streams": [quay.pk], "steps": 24, "limit": {"above": -1e6}}
    (got,) = ask(api, body).json()["items"]
    assert got["limit"]["side"] == "above" and got["limit"]["chance_by_end"] == 1
    assert got["limit"]["expected_at"] == got["time"][0]


def test_moving_a_limit_fits_nothing_anew_and_new_samples_do(api, quay, monkeypatch):
    fits = []
    fit = ahead.forecast
    monkeypatch.setattr(ahead, "forecast", lambda *a, **k: fits.append(1) or fit(*a, **k))
    body = {"streams": [quay.pk], "steps": 30, "interval": 0.77}
    first = ask(api, body | {"limit": {"above": 50}}).json()["items"][0]
    second = ask(api, body | {"limit": {"above": 60}}).json()["items"][0]
    assert len(fits) == 1 and first["expected"] == second["expected"]
    assert first["limit"]["chance_by_end"] >= second["limit"]["chance_by_end"]
    ask(api, body | {"skip_last": 1})
    times, values = store.read(quay.pk)
    monkeypatch.setattr(store, "read", lambda *a: (times, values + 1))
    moved = ask(api, body).json()["items"][0]
    assert len(fits) == 3 and moved["expected"] != first["expected"]


def test_several_streams_come_in_the_order_of_the_request(api, small_world, stream_of):
    wanted = [stream_of("rock").pk, stream_of("quay").pk]
    got = ask(api, {"streams": wanted, "steps": 2}).json()["items"]
    assert [g["stream"] for g in got] == wanted


def test_a_viewer_and_a_reading_token_may_ask(api, quay):
    from django.contrib.auth.models import User
    from rest_framework.test import APIClient

    viewer = APIClient()
    viewer.force_authenticate(User.objects.create_user("vi"))
    assert ask(viewer, {"streams": [quay.pk], "steps": 1}).status_code == 200


@pytest.mark.parametrize(
    ("change", "status", "place"),
    [
        ({"steps": 0}, 400, "steps"), ({"steps": None}, 400, "steps"), ({"until": "2040-01-01"}, 400, "steps"),
        ({"steps": 2, "limit": {}}, 400, "limit"), ({"limit": {"above": 1, "below": 2}}, 400, "limit"),
        ({"interval": 1.5}, 400, "interval"), ({"streams": []}, 400, "streams"), ({"streams": [999_999]}, 404, "streams"),
        ({"plan": "baseline:\n  kind: rolling\n"}, 422, "streams"), ({"plan": "baseline: ["}, 422, None),
        ({"skip_last": 100_000}, 422, "streams"),
    ],
)  # fmt: skip
def test_what_cannot_be_said_is_refused_at_its_place(api, quay, change, status, place):
    answer = ask(api, {"streams": [quay.pk], "steps": 5} | change)
    assert answer.status_code == status, answer.content
    assert place is None or place in json.dumps(answer.json()["errors"])


@pytest.mark.parametrize("until", ["2001-01-01", "2200-01-01"])
def test_a_time_that_is_past_or_too_far_is_refused(api, quay, until):
    answer = ask(api, {"streams": [quay.pk], "until": until})
    assert answer.status_code == 422 and answer.json()["remedy"]
