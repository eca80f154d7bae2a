"""The scorecard against a second scorer, written from the definitions with plain loops and nothing shared."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from watchtide.core.scoring.card import score
from watchtide.core.scoring.outcomes import Setting
from watchtide.core.scoring.rows import Finding, Label, Points

STEP = 10
NAMES = ("place=a,fare=x", "place=a,fare=y", "place=b,fare=x")
SCOPES = ("", "place=a", "fare=x", "fare=y,place=a", "place=c")
VERDICTS = ("incident", "incident", "unsure", "foreseen", "false-alarm")


def covers(scope, name):
    return all(pair in name.split(",") for pair in scope.split(",") if pair)


def overlap(a, b, c, d):
    return a <= d and c <= b


class Naive:
    """One reading of the definitions: nested loops over findings, labels and samples."""

    def __init__(self, findings, labels, points, tolerance):
        self.findings, self.labels, self.points, self.tolerance = findings, labels, points, tolerance
        self.reviewed = any(x.verdict == "reviewed" for x in labels)
        self.first = min(p.times[0] for p in points.values())
        self.last = max(p.times[-1] for p in points.values())
        self.findings = [f for f in findings if overlap(f.start, f.end, self.first, self.last)]

    def meets(self, f, x):
        extra = STEP if f.kind == "shift" else 0
        return covers(x.series, f.series) and overlap(
            f.start, f.end, x.start - self.tolerance, x.end + self.tolerance + extra
        )

    def looked(self, name, a, b):
        return any(
            x.verdict == "reviewed" and covers(x.series, name) and overlap(a, b, x.start, x.end)
            for x in self.labels
        )

    def state(self, f):
        met = [x for x in self.labels if x.verdict != "reviewed" and self.meets(f, x)]
        looked = self.looked(f.series, f.start, f.end)
        if met and not looked and all(x.origin == "sampled" for x in met):
            return "sampled"
        verdicts = {x.verdict for x in met}
        if "incident" in verdicts:
            return "true"
        if "unsure" in verdicts:
            return "unsure"
        if verdicts or looked or not self.reviewed:
            return "false"
        return "unjudged"

    def is_observed(self, name, i):
        p = self.points[name]
        t = p.times[i]
        return not np.isnan(p.score[i]) and (not self.reviewed or self.looked(name, t, t))

    def recall_rows(self):
        rows = []
        for x in self.labels:
            if x.verdict != "incident" or not overlap(x.start, x.end, self.first, self.last):
                continue
            names = [n for n in self.points if covers(x.series, n)]
            if self.reviewed and not any(
                y.verdict == "reviewed" and covers(y.series, n) and overlap(x.start, x.end, max(y.start, self.first), min(y.end, self.last))
                for n in names for y in self.labels
            ):  # fmt: skip
                continue
            seen = any(
                x.start <= self.points[n].times[i] <= x.end and self.is_observed(n, i)
                for n in names for i in range(len(self.points[n].times))
            )  # fmt: skip
            if seen:
                rows.append(x)
        own = [x for x in rows if x.origin != "finding"]
        return own or rows

    def confusion(self):
        out = {"tp": 0, "fp": 0, "fn": 0, "tn": 0}
        for name, p in self.points.items():
            for i, t in enumerate(p.times):
                inside = {x.verdict for x in self.labels if covers(x.series, name) and x.start <= t <= x.end}
                if not self.is_observed(name, i) or ("unsure" in inside and "incident" not in inside):
                    continue
                out[
                    ("tp" if p.flagged[i] else "fn")
                    if "incident" in inside
                    else ("fp" if p.flagged[i] else "tn")
                ] += 1
        return out

    def groups(self):
        counted = [f for f in self.findings if self.state(f) in ("true", "false")]
        met = [
            {i for i, x in enumerate(self.labels) if x.verdict == "incident" and self.meets(f, x)}
            for f in counted
        ]
        sets = [{i} for i in range(len(counted))]
        for i, f in enumerate(counted):
            for j, g in enumerate(counted):
                same = met[i] & met[j] or (
                    not met[i]
                    and not met[j]
                    and (f.series == g.series or set(f.series.split(",")) & set(g.series.split(",")))
                )
                if i < j and overlap(f.start, f.end, g.start, g.end) and same:
                    one = next(s for s in sets if i in s)
                    other = next(s for s in sets if j in s)
                    if one is not other:
                        sets.remove(other)
                        one |= other
        return [sum(any(self.state(counted[i]) == "true" for i in s) for s in sets), len(sets)]


def world(seed):
    rng = np.random.default_rng(seed)
    points = {}
    for name in NAMES:
        z = np.abs(rng.normal(size=60))
        z[rng.random(60) < 0.1] = np.nan
        points[name] = Points(np.arange(60) * STEP, z, (rng.random(60) < 0.2) & ~np.isnan(z))
    labels = []
    for _ in range(9):
        a = int(rng.integers(-5, 62)) * STEP + int(rng.integers(0, 3))
        labels.append(
            Label(a, a + int(rng.integers(0, 80)), str(rng.choice(SCOPES)), str(rng.choice(VERDICTS)), kind=str(rng.choice(["spike", "step"])),
                  origin=str(rng.choice(["independent", "finding", "sampled"])))
        )  # fmt: skip
    if rng.random() < 0.6:
        for _ in range(2):
            a = int(rng.integers(0, 40)) * STEP
            labels.append(Label(a, a + 200, str(rng.choice(SCOPES[:4])), "reviewed"))
    findings = []
    for _ in range(14):
        a = int(rng.integers(0, 58)) * STEP
        kind = str(rng.choice(["outlier", "outlier", "shift"]))
        findings.append(
            Finding(
                str(rng.choice(NAMES)), a, a if kind == "shift" else a + int(rng.integers(0, 5)) * STEP, kind
            )
        )
    return findings, labels, points, int(rng.choice([0, 7]))


@given(st.integers(0, 100_000))
@settings(max_examples=120, deadline=None)
def test_the_card_equals_the_plain_scorer(seed):
    findings, labels, points, tolerance = world(seed)
    naive = Naive(findings, labels, points, tolerance)
    card = score(findings, labels, points, Setting(tolerance, STEP))
    e, p = card.figures["events"], card.figures["points"]
    states = [naive.state(f) for f in naive.findings]
    assert [o.state for o in card.outcomes] == states
    assert (e["tp_findings"], e["fp_findings"]) == (states.count("true"), states.count("false"))
    rows = naive.recall_rows()
    hit = [x for x in rows if any(naive.state(f) == "true" and naive.meets(f, x) for f in naive.findings)]
    assert (e["tp_labels"], e["fn_labels"]) == (len(hit), len(rows) - len(hit))
    assert {k: p[k] for k in ("tp", "fp", "fn", "tn")} == naive.confusion()
    assert e["incident_precision_counts"] == naive.groups()
    assert card.figures["excluded"]["unjudged"] == states.count("unjudged")
    observed = sum(naive.is_observed(n, i) for n in points for i in range(60))
    flagged = sum(naive.is_observed(n, i) and points[n].flagged[i] for n in points for i in range(60))
    assert card.figures["flagged_share"] == (pytest.approx(flagged / observed) if observed else None)


@given(st.integers(0, 100_000))
@settings(max_examples=40, deadline=None)
def test_the_order_of_rows_changes_no_figure(seed):
    findings, labels, points, tolerance = world(seed)
    one = score(findings, labels, points, Setting(tolerance, STEP)).figures
    rng = np.random.default_rng(seed)
    shuffled = [findings[i] for i in rng.permutation(len(findings))]
    relabelled = [labels[i] for i in rng.permutation(len(labels))]
    other = score(shuffled, relabelled, dict(reversed(points.items())), Setting(tolerance, STEP)).figures
    for part in ("events", "points", "flagged_share", "delay", "excluded", "by_kind", "by_series"):
        assert one[part] == other[part], part


@given(st.integers(0, 100_000))
@settings(max_examples=40, deadline=None)
def test_kinds_sum_to_the_whole_and_bounds_hold(seed):
    findings, labels, points, tolerance = world(seed)
    figures = score(findings, labels, points, Setting(tolerance, STEP)).figures
    e, kinds = figures["events"], figures["by_kind"]
    assert sum(k["tp"] for k in kinds["findings"].values()) == e["tp_findings"]
    assert sum(k["fp"] for k in kinds["findings"].values()) == e["fp_findings"]
    assert sum(k["tp"] for k in kinds["labels"].values()) == e["tp_labels"]
    if e["precision"] is not None:
        low, high = e["precision_bounds"]
        assert low <= e["precision"] <= high
        assert e["precision_ci"][0] <= e["precision"] <= e["precision_ci"][1]
    late = [k["delay"]["n"] for k in kinds["labels"].values()]
    assert sum(late) == figures["delay"]["n"] <= e["tp_labels"]


def test_only_the_kinds_asked_for_are_counted():
    findings = [Finding("a=1", 0, 0), Finding("a=1", 50, 50, "shift")]
    labels = [Label(0, 5)]
    assert score(findings, labels, setting=Setting(kinds=("outlier",))).figures["events"]["fp_findings"] == 0
    assert score(findings, labels, setting=Setting(kinds=("shift",))).figures["events"]["tp_findings"] == 0


def test_a_stated_span_is_closed_and_what_touches_it_counts_whole():
    findings = [Finding("", 0, 10), Finding("", 20, 30), Finding("", 31, 40)]
    labels = [Label(25, 60), Label(70, 80)]
    e = score(findings, labels, setting=Setting(span=(10, 30))).figures["events"]
    assert (e["tp_findings"], e["fp_findings"], e["tp_labels"], e["fn_labels"]) == (1, 1, 1, 0)


def test_delay_by_raised_by_points_and_without_either():
    second = 10**9
    label = Label(100 * second, 200 * second)
    early = Finding("", 90 * second, 150 * second)
    assert score([early], [label]).figures["delay"]["median_s"] == 0
    raised = Finding("", 90 * second, 150 * second, raised=130 * second)
    assert score([raised], [label]).figures["delay"]["median_s"] == 30
    times = np.arange(0, 300, 10, dtype=np.int64) * second
    flagged = (times >= 120 * second) & (times <= 150 * second)
    points = {"": Points(times, np.ones(30), flagged)}
    assert (
        score([Finding("", 120 * second, 150 * second)], [label], points).figures["delay"]["median_s"] == 20
    )


def test_false_a_week_counts_stream_weeks_of_observed_time():
    week = 7 * 86_400 * 10**9
    step = week // 168
    times = np.arange(168 * 2, dtype=np.int64) * step
    points = {n: Points(times, np.ones(336), np.zeros(336, bool)) for n in ("a=1", "a=2", "a=3")}
    findings = [Finding("a=1", int(times[5]), int(times[6])), Finding("a=2", int(times[9]), int(times[9]))]
    rate = score(findings, [], points, Setting(step_ns=step)).figures["false_per_week"]
    assert rate["stream_weeks"] == pytest.approx(6) and rate["per_stream"] == pytest.approx(2 / 6)
    assert rate["total"] == pytest.approx(1)


def test_a_label_that_holds_no_sample_is_told_with_the_tolerance_that_reaches_one():
    points = {"": Points(np.array([0, 10**10, 2 * 10**10]), np.ones(3), np.zeros(3, bool))}
    notes = score([], [Label(3 * 10**9, 4 * 10**9)], points, Setting(step_ns=10**10)).figures["notes"]
    assert "--tolerance 10s" in notes["label 1"]


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"end": -1}, "ends before it starts"),
        ({"verdict": "bad"}, "unknown verdict"),
        ({"origin": "rumour"}, "unknown origin"),
    ],
)
def test_a_label_that_cannot_be_is_refused(changes, words):
    with pytest.raises(ValueError, match=words):
        Label(**({"start": 0, "end": 0} | changes))
