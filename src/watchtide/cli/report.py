"""A scorecard as one HTML page, to read and to print: no script, nothing fetched."""

from html import escape
from typing import Any

STYLE = """
body{font:16px/1.5 Georgia,serif;max-width:52rem;margin:2rem auto;padding:0 1rem;color:#14232e;background:#fffdf7}
h1{font-size:1.6rem;margin:0 0 .2rem}h2{font-size:1.15rem;margin:1.8rem 0 .4rem;border-bottom:1px solid #14232e}
table{border-collapse:collapse;width:100%}th,td{text-align:left;padding:.25rem .6rem .25rem 0;border-bottom:1px solid #c9c2ae;vertical-align:top}
td.n,th.n{text-align:right;font-variant-numeric:tabular-nums}p{margin:.3rem 0}small{color:#4a5963}
@media print{body{background:#fff;color:#000;margin:0;max-width:none}@page{size:A4;margin:18mm}tr{break-inside:avoid}}
"""


def page(figures: dict[str, Any], findings: str, labels: str) -> str:
    """The whole page; every figure with its count and interval, and why a figure is not there."""
    e, rate, delay, span = figures["events"], figures["false_per_week"], figures["delay"], figures["span"]
    counted, incidents = e["tp_findings"] + e["fp_findings"], e["tp_labels"] + e["fn_labels"]
    rows = [
        ("Precision", e["precision"], _wider(e, "precision"), f"{e['tp_findings']} of {counted} findings are incidents"),
        ("Recall", e["recall"], _wider(e, "recall"), f"{e['tp_labels']} of {incidents} {e['recall_of']} were found"),
        ("F1", e["f1"], e.get("f1_ci"), ""),
        ("False findings a stream-week", rate["per_stream"], rate.get("per_stream_ci"), f"{rate['false_findings']} in {rate['stream_weeks']:.1f} stream-weeks"),
        ("Delay, median, min", _minutes(delay["median_s"]), [_minutes(x) for x in delay.get("median_ci") or []] or None, f"of {delay['n']} found incidents"),
        ("Findings a found incident", e["fragmentation"], e.get("fragmentation_ci"), "several findings of one incident"),
        ("Share of samples flagged", figures["flagged_share"], figures.get("flagged_share_ci"), ""),
    ]  # fmt: skip
    parts = [
        f"<h1>Scorecard</h1><p>{escape(findings)} against {escape(labels)}, {escape(str(span['from']))} to {escape(str(span['to']))}</p>",
        "<h2>By event</h2>", _table(("Figure", "", "95 % interval", "From"), [(n, _number(v), _pair(ci), w) for n, v, ci, w in rows]),
    ]  # fmt: skip
    unjudged = figures["excluded"]["unjudged"]
    if unjudged and e["precision_bounds"]:
        low, high = e["precision_bounds"]
        parts.append(
            f"<p>{unjudged} findings were not looked at: precision lies between {low:.3f} and {high:.3f}.</p>"
        )
    for level, title in (("points", "By sample"), ("ranges", "By range")):
        if figures[level]:
            own = figures[level]
            names = [k for k in ("precision", "recall", "specificity", "accuracy", "f1") if k in own]
            parts += [
                f"<h2>{title}</h2>",
                _table(
                    ("Figure", "", "95 % interval"),
                    [(k.capitalize(), _number(own[k]), _pair(own.get(f"{k}_ci"))) for k in names],
                ),
            ]
    kinds = figures["by_kind"]["labels"]
    if kinds:
        parts += [
            "<h2>By kind of incident</h2>",
            _table(("Kind", "Found", "Missed", "Recall", "95 % interval"), [(k, v["tp"], v["fn"], _number(v["recall"]), _pair(v["recall_ci"])) for k, v in kinds.items()]),
        ]  # fmt: skip
    series = sorted(
        figures["by_series"].items(), key=lambda kv: (-(kv[1]["fp_findings"] + kv[1]["fn_labels"]), kv[0])
    )
    parts += [
        "<h2>By stream</h2>",
        _table(
            ("Stream", "True", "False", "Found", "Missed", "Precision", "Recall"),
            [(k or "the only one", v["tp_findings"], v["fp_findings"], v["tp_labels"], v["fn_labels"], _number(v["precision"]), _number(v["recall"])) for k, v in series],
        ),
    ]  # fmt: skip
    if figures["notes"]:
        parts.append(
            "<h2>What to know</h2>"
            + "".join(
                f"<p><small>{escape(k)}: {escape(str(v))}</small></p>" for k, v in figures["notes"].items()
            )
        )
    return f'<!doctype html><html lang="en"><head><meta charset="utf-8"><title>Scorecard</title><style>{STYLE}</style></head><body>{"".join(parts)}</body></html>\n'


def _wider(events: dict[str, Any], name: str) -> list[float] | None:
    """The wider of Wilson's interval and the one by resampling."""
    pairs = [p for p in (events[f"{name}_ci"], events.get(f"{name}_ci_clustered")) if p]
    return max(pairs, key=lambda p: p[1] - p[0]) if pairs else None


def _minutes(seconds: float | None) -> float | None:
    return None if seconds is None else seconds / 60


def _number(value: float | None) -> str:
    return "no value" if value is None else f"{value:,.3f}"


def _pair(interval: Any) -> str:
    return "" if not interval or interval[0] is None else f"{interval[0]:,.3f} to {interval[1]:,.3f}"


def _table(head: tuple[str, ...], rows: list[tuple[Any, ...]]) -> str:
    def cell(i: int, value: Any, tag: str) -> str:
        return f"<{tag}{' class=n' if 0 < i < len(head) - (head[-1] == 'From') else ''}>{escape(str(value))}</{tag}>"

    top = "".join(cell(i, h, "th") for i, h in enumerate(head))
    body = "".join("<tr>" + "".join(cell(i, v, "td") for i, v in enumerate(row)) + "</tr>" for row in rows)
    return f"<table><thead><tr>{top}</tr></thead><tbody>{body}</tbody></table>"
