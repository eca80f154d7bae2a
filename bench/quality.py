"""How well each baseline tells trouble from chance: event F1, point average precision, false findings, delay.

In-sample and in replay, by family and by kind of trouble, on streams whose trouble is known. Half of the seeds are for
looking, the other half for a last, single run (`--last`); once run they are taken for new ones.
"""

import argparse
import json
import time
from collections import defaultdict
from concurrent.futures import ProcessPoolExecutor
from typing import Any

import numpy as np

from bench import quality_world as world

LOOK, LAST = (11, 12, 13, 41, 42, 43), (111, 112, 113, 114, 115, 116)
STATED = {
    "berth level": ["12.4206h", "12h", "24h"],
    "hourly tide": ["12.4206h", "12h", "24h"],
    "hold temperature": ["6h", "24h"],
    "quay wind": [],
}
FIXED: dict[str, dict[str, Any]] = {
    "global mean ± 3 SD": {"shifts": {"of": "none"}},
    "same slot median ± 4 MAD": {
        "baseline": {"kind": "slot", "form": "additive"}, "flag": {"level": {"sigmas": 4}, "windows": "none"}, "shifts": {"of": "none"},
    },
    "robust loess ± 3 SD": {
        "baseline": {"kind": "loess", "form": "additive"}, "flag": {"level": {"sigmas": 3}, "spread": "sd", "windows": "none"},
        "shifts": {"of": "none"},
    },
}  # fmt: skip
KINDS = (
    "harmonic",
    "loess",
    "classical",
    "slot",
    "rolling",
    "spectrum",
    "trailing",
    "fixed",
    "isolation",
    "next-step",
    "reconstruction",
)


def methods() -> dict[str, dict[str, Any]]:
    return {**FIXED, **{kind: {"baseline": {"kind": kind}} for kind in KINDS}, "auto": {}}


def plan_for(name: str, data: dict[str, Any], stream: world.Labelled, mode: str) -> Any:
    from watchtide.plan.text import from_data

    own = json.loads(json.dumps(data))
    base = own.setdefault("baseline", {})
    if name.startswith("global"):
        # Limits at mean ± 3 SD: of everything in-sample, of the first three weeks in replay.
        known = stream.values
        if mode == "replay":
            known = known[stream.times < stream.times[0] + 21 * 86_400 * 10**9]
        mean, deviation = float(np.nanmean(known)), 3 * float(np.nanstd(known))
        own["baseline"] = {
            "kind": "fixed",
            "seasons": [],
            "options": {"lower": mean - deviation, "upper": mean + deviation},
        }
    elif name != "auto" and "seasons" not in base:
        # The fixed choices are told the seasons, as a person would; those that need whole samples, the nearest.
        seasons = STATED.get(stream.family, ["24h", "7d"])
        if base["kind"] in ("loess", "classical", "slot") and stream.family == "berth level":
            seasons = ["149"] if base["kind"] != "slot" else ["24h"]
        if base["kind"] in ("slot", "classical") and not seasons:
            seasons = ["24h"]
        base["seasons"] = seasons
    if mode == "replay":
        own["replay"] = {"refit": "7d"}
        own["baseline"].setdefault("train", "all")
    return from_data(own)


def judge(task: tuple[str, dict[str, Any], str, int, bool, str]) -> dict[str, Any]:
    """One stream by one method in one mode: counts that add up, and its average precision."""
    from watchtide.core.scoring.card import score
    from watchtide.core.scoring.outcomes import Setting
    from watchtide.core.scoring.rows import Points
    from watchtide.engine.scan import stages

    name, data, family, seed, troubled, mode = task
    stream = world.make(family, seed, troubled=troubled)
    begin = time.perf_counter()
    try:
        got = stages.scan(
            stages.Input(stream.key, stream.times, stream.values, world.ZONE, stream.denominators),
            plan_for(name, data, stream, mode),
            (),
            mode,
        )
    except ValueError as error:
        return {"name": name, "family": family, "mode": mode, "troubled": troubled, "failed": str(error)}
    took = time.perf_counter() - begin
    base = got.base
    # Both modes are counted over the same span: what comes after the first three weeks.
    cut = int(stream.times[0]) + max(21 * 86_400 * 10**9, 60 * base.series.step_ns)
    end = int(stream.times[-1])
    seen = ~np.isnan(base.score)
    points = {stream.key: Points(base.series.times, base.score, got.in_finding)}
    labels = [x for x in stream.labels if x.end >= cut]
    card = score(got.findings, labels, points, Setting(step_ns=base.series.step_ns, span=(cut, end)))
    e, f = card.figures["events"], card.figures["false_per_week"]
    truth = np.zeros(len(base.series), np.bool_)
    for x in labels:
        truth |= (base.series.times >= x.start) & (base.series.times <= x.end)
    part = seen & (base.series.times >= cut)
    kinds = {}
    for kind, v in card.figures["by_kind"]["labels"].items():
        own, others = np.zeros(len(truth), np.bool_), np.zeros(len(truth), np.bool_)
        for x in labels:
            (own if x.kind == kind else others)[
                (base.series.times >= x.start) & (base.series.times <= x.end)
            ] = True
        apart = part & (own | ~others)
        kinds[kind] = {
            "hit": v["tp"], "count": v["tp"] + v["fn"], "delay": v["delay"]["median_s"], "weeks": (end - cut) / (7 * 86_400e9),
            "found": sum(o.state == "true" and any(labels[i].kind == kind for i in o.incidents) for o in card.outcomes),
            "false": e["fp_findings"], "ap": average_precision(base.score[apart], own[apart]) if own[apart].any() else None,
        }  # fmt: skip
    return {
        "name": name, "family": family, "mode": mode, "troubled": troubled, "seed": seed,
        "tp": e["tp_findings"], "fp": e["fp_findings"], "hit": e["tp_labels"], "miss": e["fn_labels"],
        "ap": average_precision(base.score[part], truth[part]) if truth[part].any() else None,
        "false": f["false_findings"], "weeks": (end - cut) / (7 * 86_400e9), "delay": card.figures["delay"]["median_s"],
        "kinds": kinds, "seconds": took, "kind": got.resolved["baseline"],
        "promised": got.level.per_week,
    }  # fmt: skip


def average_precision(score: np.ndarray, truth: np.ndarray) -> float:
    """Mean precision over the true samples, ranked by score; ties share their block's precision."""
    order = np.argsort(-score, kind="stable")
    ranked, hits = score[order], np.cumsum(truth[order])
    ends = np.flatnonzero(np.r_[np.diff(ranked) != 0, True])
    precision, recall = hits[ends] / (ends + 1), hits[ends] / hits[-1]
    return float(np.sum(np.diff(np.r_[0.0, recall]) * precision))


def run(
    seeds: tuple[int, ...], names: list[str], modes: list[str], families: list[str]
) -> list[dict[str, Any]]:
    import os

    for name in ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS", "NUMBA_NUM_THREADS"):
        os.environ[name] = "1"
    chosen = methods()
    tasks = [
        (name, chosen[name], family, seed, troubled, mode)
        for name in names for mode in modes for family in families for seed in seeds for troubled in (True, False)
    ]  # fmt: skip
    import multiprocessing

    with ProcessPoolExecutor(2, mp_context=multiprocessing.get_context("spawn")) as pool:
        return list(pool.map(judge, tasks, chunksize=2))


def table(rows: list[dict[str, Any]], by: str) -> dict[str, dict[str, float]]:
    """Figures by method and mode, over all, a family, or a kind of trouble. Averages over streams; false over clean ones."""
    out: dict[str, dict[str, float]] = {}
    groups: dict[tuple[str, str, str], list[dict[str, Any]]] = defaultdict(list)
    for r in rows:
        groups[r["name"], r["mode"], r["family"] if by == "family" else "all"].append(r)
    for (name, mode, what), members in groups.items():
        good = [r for r in members if "failed" not in r]
        hurt = [r for r in good if r["troubled"]]
        clean = [r for r in good if not r["troubled"]]
        if not hurt:
            continue
        f1 = [
            2
            * r["tp"]
            * r["hit"]
            / max(r["tp"] * (r["hit"] + r["miss"]) + r["hit"] * (r["tp"] + r["fp"]), 1e-9)
            if r["tp"]
            else 0.0
            for r in hurt
        ]
        delays = [r["delay"] for r in hurt if r["delay"] is not None]
        out[f"{name} | {mode} | {what}"] = {
            "F1": float(np.mean(f1)), "AP": float(np.mean([r["ap"] or 0.0 for r in hurt])),
            "false/week clean": sum(r["false"] for r in clean) / max(sum(r["weeks"] for r in clean), 1e-9) if clean else float("nan"),
            "false/week": sum(r["false"] for r in hurt) / sum(r["weeks"] for r in hurt),
            "delay h": float(np.median(delays)) / 3600 if delays else float("nan"),
            "s": float(np.mean([r["seconds"] for r in good])), "failed": len(members) - len(good),
        }  # fmt: skip
    return out


def kinds_table(rows: list[dict[str, Any]]) -> dict[str, dict[str, float]]:
    """Figures by kind of trouble, over the streams that have it; their findings of other kinds are left out of precision
    and AP, their false ones are not."""
    out: dict[str, dict[str, float]] = {}
    groups: dict[tuple[str, str, str], list[dict[str, Any]]] = defaultdict(list)
    for r in rows:
        for kind, figures in (r.get("kinds") or {}).items() if r["troubled"] else ():
            groups[r["name"], r["mode"], kind].append(figures)
    for (name, mode, kind), members in sorted(groups.items()):
        total = {k: sum(m[k] for m in members) for k in ("hit", "count", "found", "false", "weeks")}
        precision = total["found"] / max(total["found"] + total["false"], 1)
        recall = total["hit"] / total["count"]
        delays = [m["delay"] for m in members if m["delay"] is not None]
        aps = [m["ap"] for m in members if m["ap"] is not None]
        out[f"{name} | {mode} | {kind}"] = {
            "F1": 2 * precision * recall / max(precision + recall, 1e-9), "AP": float(np.mean(aps)) if aps else float("nan"),
            "false/week": total["false"] / total["weeks"], "delay h": float(np.median(delays)) / 3600 if delays else float("nan"),
            "found": total["hit"], "of": total["count"],
        }  # fmt: skip
    return out


def measure(last: bool = False) -> dict[str, Any]:
    rows = run(LAST if last else LOOK, list(methods()), ["fit", "replay"], list(world.FAMILIES))
    return {"all": table(rows, "all"), "family": table(rows, "family"), "kind": kinds_table(rows)}


def main() -> None:
    parser = argparse.ArgumentParser(prog="python -m bench.quality", description=__doc__)
    parser.add_argument("--last", action="store_true", help="the seeds kept for a last, single run")
    parser.add_argument("--seeds", nargs="*", type=int, help="these instead")
    parser.add_argument("--methods", nargs="*", default=list(methods()))
    parser.add_argument("--modes", nargs="*", default=["fit", "replay"])
    parser.add_argument("--families", nargs="*", default=list(world.FAMILIES))
    parser.add_argument("--by-family", action="store_true")
    options = parser.parse_args()
    begin = time.perf_counter()
    rows = run(
        tuple(options.seeds) if options.seeds else LAST if options.last else LOOK,
        options.methods,
        options.modes,
        options.families,
    )
    show(table(rows, "all"))
    if options.by_family:
        show(table(rows, "family"))
        missed(rows)
    show(kinds_table(rows))
    for r in rows:
        if "failed" in r:
            print("failed:", r["name"], r["family"], r["mode"], r["failed"])
    print(f"{time.perf_counter() - begin:.0f} s")


def missed(rows: list[dict[str, Any]]) -> None:
    """Which streams lost most: hits, misses, false findings."""
    for r in sorted(rows, key=lambda r: (r["mode"], r["family"], r.get("seed", 0))):
        if "failed" not in r and r["troubled"] and (r["miss"] or r["fp"]):
            print(
                f"{r['mode']:<7}{r['family']:<18}{r['seed']:>5}  hit {r['hit']} of {r['hit'] + r['miss']}, false {r['fp']}, AP {r['ap'] or 0:.2f}, {r['kind']['kind']} {r['kind']['seasons']}"
            )


def show(figures: dict[str, dict[str, float]]) -> None:
    for name, row in figures.items():
        print(f"{name:<58} " + "  ".join(f"{k} {v:.2f}" for k, v in row.items()))


if __name__ == "__main__":
    main()
