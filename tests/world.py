"""Small worlds for tests: made-up streams with trouble planted where the test says."""

import numpy as np

STEP_S = 3_600
START = np.datetime64("2026-08-03T00:00")


def hourly(days=42, spikes=(), level=20.0, noise=0.8, seed=0):
    """Values of a daily season with spikes of +12 for three hours at these indices."""
    t = np.arange(days * 24)
    y = level + 8 * np.sin(2 * np.pi * t / 24) + np.random.default_rng(seed).normal(0, noise, len(t))
    for at in spikes:
        y[at : at + 3] += 12
    return np.round(y, 2)


def stamps(n):
    return [str(START + np.timedelta64(i * STEP_S, "s")) + "Z" for i in range(n)]


def csv_of(streams, metric="level", column="place"):
    """CSV text of {name: values}, rows in time order."""
    n = max(len(v) for v in streams.values())
    rows = [f"time,{column},{metric}"]
    for i, stamp in enumerate(stamps(n)):
        rows += [f"{stamp},{name},{'' if np.isnan(v[i]) else v[i]}" for name, v in streams.items()]
    return "\n".join(rows) + "\n"


def labels_csv(rows):
    """CSV text of (series, first index, last index, verdict)."""
    at = stamps(10_000)
    return "series,start,end,verdict\n" + "".join(f'"{s}",{at[a]},{at[b]},{v}\n' for s, a, b, v in rows)


def runs_at(z, above, below, times, group):
    """Findings of plain signed scores at a level a side."""
    from watchtide.core.judge import flagging, grouping, watches

    evidence = watches.alone(np.asarray(z, dtype=float))
    flags = flagging.flag(evidence, above, below, np.inf)
    return grouping.find_runs(flags, evidence.score, times, group)
