"""Pictures show what was found, name what they show, and are left out where Matplotlib is not installed."""

import sys

import numpy as np
import pytest

import watchtide as wt
from tests import world
from watchtide.door import pictures
from watchtide.extras import MissingExtra

STEPPED = world.hourly(spikes=(200,)).copy()
STEPPED[700:] += 9


@pytest.fixture(scope="module")
def found(tmp_path_factory):
    path = tmp_path_factory.mktemp("pictures") / "level.csv"
    path.write_text(world.csv_of({"quay": STEPPED, "weir": world.hourly(seed=4)}))
    return wt.scan(path, {"flag": {"level": {"sigmas": 6}}}, tz="Europe/Dublin")


def lines(axes):
    return {line.get_label(): line for line in axes.get_lines()}


def test_a_stream_is_drawn_with_what_was_found(found, tmp_path):
    picture = found.plot("place=quay", unit="m")
    (axes,) = picture.figure.axes
    points = [r for r in found.points.to_pylist() if r["series"] == "place=quay"]
    drawn = lines(axes)
    for name, column in (("observed", "value"), ("expected", "expected")):
        np.testing.assert_array_equal(
            np.asarray(drawn[name].get_ydata(), float),
            [np.nan if r[column] is None else r[column] for r in points],
        )
    outliers = [
        r for r in found.findings.to_pylist() if r["series"] == "place=quay" and r["kind"] == "outlier"
    ]
    inside = [r for r in points if any(f["start"] <= r["time"] <= f["end"] for f in outliers)]
    assert list(drawn["found"].get_ydata()) == [r["value"] for r in inside] and "shift" in drawn
    assert axes.get_ylabel() == "value (m)" and axes.get_title(loc="left") == "place=quay"
    for name, begin in (("a.png", b"\x89PNG"), ("a.svg", b"<?xml"), ("a.pdf", b"%PDF")):
        picture.save(tmp_path / name)
        assert (tmp_path / name).read_bytes().startswith(begin)


def test_a_span_is_closed_and_on_the_clock_of_the_stream(found):
    (axes,) = found.plot("place=quay", start="2026-08-10", stop="2026-08-11").figure.axes
    times = lines(axes)["observed"].get_xdata()
    # Midnight to midnight, both ends.
    assert len(times) == 25 and times[0].isoformat() == "2026-08-10T00:00:00+01:00"


def test_parts_add_up_to_what_was_observed(found):
    panels = found.plot_components("place=weir").figure.axes
    names = [axes.get_ylabel() for axes in panels]
    assert names[:2] == ["observed", "trend"] and names[-1] == "remainder" and "season 1d" in names
    values = [np.asarray(axes.get_lines()[0].get_ydata(), float) for axes in panels]
    np.testing.assert_allclose(values[0], sum(values[1:]), atol=1e-9)


def test_precision_and_recall_are_drawn_with_what_they_count(found, tmp_path):
    (tmp_path / "labels.csv").write_text(
        world.labels_csv([("place=quay", 200, 202, "incident"), ("", 0, 900, "reviewed")])
    )
    score = wt.score(found, tmp_path / "labels.csv")
    (axes,) = score.plot().figure.axes
    assert [t.get_text() for t in axes.get_yticklabels()][1] == "recall  1 of 1 incidents"
    assert f"{score.precision:.2f}" in [t.get_text() for t in axes.texts]
    # Without an incident there is no recall to draw.
    none = wt.score(found, {"start": ["2020-01-01T00:00:00Z"], "verdict": ["unsure"]}).plot()
    assert "not known" in [t.get_text() for t in none.figure.axes[0].texts]


def test_a_notebook_shows_the_stream_with_the_largest_score(found):
    html = found._repr_html_()
    assert 'alt="place=quay" src="data:image/png;base64,' in html and "<table>" in html


def test_which_stream_and_span_have_to_be_there(found):
    for call, place in (
        (found.plot, "series"), (lambda: found.plot("place=none"), "series"), (found.plot_components, "series"),
        (lambda: found.plot("place=quay", start="2031-01-01"), "start"),
    ):  # fmt: skip
        with pytest.raises(wt.InputError) as caught:
            call()
        assert caught.value.place == place and caught.value.remedy


def test_without_matplotlib_the_rest_goes_on(found, monkeypatch):
    monkeypatch.setitem(sys.modules, "matplotlib.figure", None)
    with pytest.raises(MissingExtra, match=r"watchtide\[plot\]"):
        found.plot("place=quay")
    assert "<img" not in found._repr_html_() and "<table>" in found._repr_html_()


def test_the_band_does_not_flatten_the_data():
    times = np.arange(50, dtype=np.int64) * 3_600 * 10**9
    wide = {
        "time": times,
        "value": np.arange(50.0),
        "expected": np.arange(50.0),
        "lower": np.full(50, -1e6),
        "upper": np.full(50, 1e6),
    }
    (axes,) = pictures.stream(wide, (), pictures.About("UTC", "wide")).figure.axes
    assert axes.get_ylim()[1] < 100
