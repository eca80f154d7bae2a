"""A scorecard to read outside the application: one HTML page, a table, a small picture of one figure.

The page has no script and fetches nothing; its chart tells its lines apart by pattern, so that it prints without colour.
"""

import csv
import io
from collections.abc import Iterable, Sequence
from html import escape
from typing import Any

STYLE = """
body{font:15px/1.45 Georgia,serif;max-width:54rem;margin:2rem auto;padding:0 1rem;color:#14232e;background:#fffdf7}
h1{font-size:1.55rem;margin:0 0 .2rem}h2{font-size:1.1rem;margin:1.5rem 0 .3rem;border-bottom:1px solid #14232e}
table{border-collapse:collapse;width:100%}th,td{text-align:left;padding:.2rem .6rem .2rem 0;border-bottom:1px solid #c9c2ae;vertical-align:top}
td.n,th.n{text-align:right;font-variant-numeric:tabular-nums}p{margin:.3rem 0}small{color:#4a5963}
figure{margin:.4rem 0;break-inside:avoid}svg{max-width:27rem;width:100%;height:auto}
@media print{body{background:#fff;color:#000;margin:0;max-width:none;font-size:10.5pt}@page{size:A4;margin:16mm}tr{break-inside:avoid}h2{break-after:avoid}}
"""

Figure = tuple[str, float | None, Sequence[float | None] | None, str]


def figures_of(figures: dict[str, Any]) -> list[Figure]:
    """Name, value, 95 % interval (the wider of two) and what it was counted from, of every figure."""
    e, rate, delay = figures["events"], figures["false_per_week"], figures["delay"]
    counted, incidents = e["tp_findings"] + e["fp_findings"], e["tp_labels"] + e["fn_labels"]
    rows: list[Figure] = [
        ("Precision", e["precision"], wider(e, "precision"), f"{e['tp_findings']} of {counted} findings are incidents"),
        ("Recall", e["recall"], wider(e, "recall"), f"{e['tp_labels']} of {incidents} {e['recall_of']} were found"),
        ("F1", e["f1"], e.get("f1_ci"), "of the two"),
        ("Incident precision", e["incident_precision"], e.get("incident_precision_ci"), "findings joined by incident"),
        ("False findings a stream-week", rate["per_stream"], rate.get("per_stream_ci"), f"{rate['false_findings']} in {rate['stream_weeks']:.1f} stream-weeks"),
        ("Delay, median, min", _minutes(delay["median_s"]), [_minutes(x) for x in delay.get("median_ci") or []] or None, f"of {delay['n']} found incidents"),
        ("Delay, nine in ten within, min", _minutes(delay["p90_s"]), [_minutes(x) for x in delay.get("p90_ci") or []] or None, f"of {delay['n']} found incidents"),
        ("Findings a found incident", e["fragmentation"], e.get("fragmentation_ci"), "several findings of one incident"),
        ("Share of samples flagged", figures["flagged_share"], figures.get("flagged_share_ci"), "of the samples looked through"),
    ]  # fmt: skip
    for level, words in (("points", "by sample"), ("ranges", "by range")):
        own = figures[level] or {}
        for name in ("precision", "recall", "specificity", "accuracy", "f1"):
            if name in own:
                rows.append((f"{name.capitalize()} {words}", own[name], wider(own, name), ""))
    return rows


def wider(figures: dict[str, Any], name: str) -> list[float] | None:
    """The wider of Wilson's interval and the one by resampling."""
    pairs = [p for p in (figures.get(f"{name}_ci"), figures.get(f"{name}_ci_clustered")) if p]
    return max(pairs, key=lambda p: p[1] - p[0]) if pairs else None


def page(card: dict[str, Any], title: str, about: Iterable[str]) -> str:
    """The whole page; every figure with its count and interval, and why a figure is not there.

    card : `figures`, and where they are known `curve`, `by_stream`, `by_family` and `by_cause`; about : lines under
    the title, such as plan, data and labels.
    """
    figures = card["figures"]
    span = figures["span"]
    parts = [
        f"<h1>{escape(title)}</h1>",
        *(f"<p>{escape(line)}</p>" for line in about),
        f"<p>{escape(str(span['from']))} to {escape(str(span['to']))}</p>",
        "<h2>Figures</h2>",
        _table(
            ("Figure", "", "95 % interval", "From"),
            [(n, _number(v), _pair(ci), w) for n, v, ci, w in figures_of(figures)],
        ),
    ]
    bounds, unjudged = figures["events"]["precision_bounds"], figures["excluded"]["unjudged"]
    if unjudged and bounds:
        parts.append(
            f"<p>{unjudged} findings were not looked at: precision lies between {bounds[0]:.3f} and {bounds[1]:.3f}.</p>"
        )
    if card.get("curve"):
        parts += ["<h2>Precision and recall</h2>", _curve(card["curve"], figures["events"])]
    if figures["points"]:
        p = figures["points"]
        parts += [
            "<h2>Samples</h2>",
            _table(("", "incident", "not"), [("flagged", p["tp"], p["fp"]), ("passed", p["fn"], p["tn"])]),
        ]
    kinds = figures["by_kind"]["labels"]
    if kinds:
        parts += [
            "<h2>By kind of incident</h2>",
            _table(("Kind", "Found", "Missed", "Recall", "95 % interval"), [(k, v["tp"], v["fn"], _number(v["recall"]), _pair(v["recall_ci"])) for k, v in kinds.items()]),
        ]  # fmt: skip
    streams = card.get("by_stream") or [{"name": k, **v} for k, v in figures["by_series"].items()]
    for rows, name, title_of in (
        (card.get("by_family"), "Family", "By family"), (card.get("by_cause"), "Cause", "By cause"),
        (streams, "Stream", "By stream"),
    ):  # fmt: skip
        if rows:
            parts += [f"<h2>{title_of}</h2>", _cut(name, rows)]
    if figures["notes"]:
        parts.append("<h2>What to know</h2>")
        parts += [f"<p><small>{escape(k)}: {escape(str(v))}</small></p>" for k, v in figures["notes"].items()]
    return f'<!doctype html><html lang="en"><head><meta charset="utf-8"><title>{escape(title)}</title><style>{STYLE}</style></head><body>{"".join(parts)}</body></html>\n'


def _cut(name: str, rows: list[dict[str, Any]]) -> str:
    ordered = sorted(rows, key=lambda r: (-(r["fp_findings"] + r["fn_labels"]), r["name"]))
    return _table(
        (name, "True", "False", "Found", "Missed", "Precision", "Recall"),
        [
            (r["name"] or "not noted", r["tp_findings"], r["fp_findings"], r["tp_labels"], r["fn_labels"], _number(r["precision"]), _number(r["recall"]))
            for r in ordered
        ],
    )  # fmt: skip


WIDE, HIGH, LEFT, TOP, SIDE = 430, 320, 40, 12, 270


def _curve(curve: dict[str, Any], events: dict[str, Any]) -> str:
    """Precision over recall at every level, and the level in force with its intervals."""

    def x(recall: float) -> float:
        return round(LEFT + recall * (WIDE - LEFT - 16), 1)

    def y(precision: float) -> float:
        return round(TOP + (1 - precision) * SIDE, 1)

    points = [
        (r, p)
        for r, p in zip(curve["recall"], curve["precision"], strict=True)
        if r is not None and p is not None
    ]
    grid = "".join(
        f'<path d="M{x(0)} {y(g)}H{x(1)}M{x(g)} {y(0)}V{y(1)}" stroke="#c9c2ae"/><text x="{LEFT - 6}" y="{y(g) + 4}" text-anchor="end">{g:g}</text>'
        f'<text x="{x(g)}" y="{y(0) + 16}" text-anchor="middle">{g:g}</text>'
        for g in (0, 0.25, 0.5, 0.75, 1)
    )
    line = " ".join(f"{x(r)},{y(p)}" for r, p in points)
    now = ""
    p, r = events["precision"], events["recall"]
    if p is not None and r is not None:
        up, across = wider(events, "precision"), wider(events, "recall")
        whiskers = (f"M{x(r)} {y(up[0])}V{y(up[1])}" if up else "") + (
            f"M{x(across[0])} {y(p)}H{x(across[1])}" if across else ""
        )
        now = f'<path d="{whiskers}" stroke="#000" stroke-width="1.6"/><rect x="{x(r) - 4.5}" y="{y(p) - 4.5}" width="9" height="9"/>'
    return (
        f'<figure><svg viewBox="0 0 {WIDE} {HIGH}" role="img" aria-label="precision over recall" font-size="12" font-family="monospace">{grid}'
        f'<polyline points="{line}" fill="none" stroke="#14232e" stroke-width="1.8"/>{now}<text x="{x(0.5)}" y="{HIGH - 3}" text-anchor="middle">recall</text>'
        f'<text x="2" y="9">precision</text></svg><figcaption><small>Line: one level for all streams, 2 to 12 sigmas. Square: the plan as it is, with 95 % intervals.</small></figcaption></figure>'
    )


def table(figures: dict[str, Any]) -> str:
    """Every figure as CSV: figure, value, low, high, from."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(("figure", "value", "low", "high", "from"))
    for name, value, ci, words in figures_of(figures):
        low, high = ci if ci else (None, None)
        writer.writerow((name, *("" if v is None else repr(v) for v in (value, low, high)), words))
    return out.getvalue()


def drawn(events: dict[str, Any], name: str = "precision") -> str:
    """One figure as a picture (SVG): in words, and under them its interval on the line from 0 to 1. Dark on light."""
    value, interval = events[name], wider(events, name)
    hits, misses = ("tp_findings", "fp_findings") if name == "precision" else ("tp_labels", "fn_labels")
    count = f"{events[hits]} of {events[hits] + events[misses]}"
    text = "not known" if value is None else f"{value:.2f}"
    if interval:
        text += f" ({interval[0]:.2f} to {interval[1]:.2f}), {count}"
    words = f"{name} {text}"
    # Eight pixels a letter of a 13 px monospace face; the viewer's own may be a little narrower.
    wide = round(8 * len(words) + 20)
    line = wide - 20

    def x(share: float) -> str:
        return f"{10 + line * share:.1f}"

    ticks = "".join(f"M{x(k / 4)} 32v{9 if k % 2 == 0 else 5}" for k in range(5))
    marks = ""
    if interval:
        marks += f'<path d="M{x(interval[0])} 28v8M{x(interval[1])} 28v8M{x(interval[0])} 32H{x(interval[1])}" stroke-width="3"/>'
    if value is not None:
        marks += f'<path d="M{x(value)} 26l4 6-4 6-4-6z" fill="#14232e"/>'
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{wide}" height="54" viewBox="0 0 {wide} 54" role="img" aria-label="{escape(words)}">'
        f'<rect width="{wide}" height="54" fill="#f6f1e4"/><g font-family="monospace" font-size="13" fill="#14232e">'
        f'<text x="10" y="17">{escape(name)} <tspan font-weight="700">{escape(text)}</tspan></text>'
        f'<text x="10" y="51" font-size="10">0</text><text x="{wide - 10}" y="51" font-size="10" text-anchor="end">1</text></g>'
        f'<g fill="none" stroke="#14232e"><path d="M{x(0)} 32H{x(1)}{ticks}"/>{marks}</g></svg>\n'
    )


def _minutes(seconds: float | None) -> float | None:
    return None if seconds is None else seconds / 60


def _number(value: float | None) -> str:
    return "no value" if value is None else f"{value:,.3f}"


def _pair(interval: Any) -> str:
    return "" if not interval or interval[0] is None else f"{interval[0]:,.3f} to {interval[1]:,.3f}"


def _table(head: tuple[str, ...], rows: list[tuple[Any, ...]]) -> str:
    def cell(i: int, value: Any, tag: str) -> str:
        kind = ' class="n"' if 0 < i < len(head) - (head[-1] == "From") else ""
        return f"<{tag}{kind}>{escape(str(value))}</{tag}>"

    top = "".join(cell(i, h, "th") for i, h in enumerate(head))
    body = "".join("<tr>" + "".join(cell(i, v, "td") for i, v in enumerate(row)) + "</tr>" for row in rows)
    return f"<table><thead><tr>{top}</tr></thead><tbody>{body}</tbody></table>"
