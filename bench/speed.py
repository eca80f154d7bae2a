"""Scans of 1,000 streams from one Parquet file by command, read to findings written; discords, and a long decomposition."""

import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.parquet as papq

STREAMS, SAMPLES = 1_000, 2_880
QUARTER = 900 * 10**9
PLANS = {
    "same slot, sigmas=4, windows and shifts off": "baseline: {kind: slot, seasons: [24h]}\nflag: {level: {sigmas: 4}, windows: none}\nshifts: {of: none}\n",
    "same slot, default level, windows and shifts": "baseline: {kind: slot, seasons: [24h]}\n",
    "auto": "",
}


def measure() -> dict[str, Any]:
    from bench.measures import taps

    out: dict[str, Any] = {}
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        times = 1_785_110_400 * 10**9 + np.arange(SAMPLES, dtype=np.int64) * QUARTER
        rng = np.random.default_rng(0)
        one = pa.array(times).cast(pa.timestamp("ns", tz="UTC"))
        parts = [
            pa.table(
                {
                    "time": one,
                    "stream": [f"s{k}"] * SAMPLES,
                    "value": taps(SAMPLES, k) + rng.normal(0, 0.1, SAMPLES),
                }
            )
            for k in range(STREAMS)
        ]
        papq.write_table(pa.concat_tables(parts), folder / "in.parquet")
        for what, text in PLANS.items():
            (folder / "plan.yaml").write_text(text)
            begin = time.perf_counter()
            subprocess.run(
                [sys.executable, "-m", "watchtide.cli.main", "scan", "in.parquet", "--plan", "plan.yaml", "--jobs", "2", "--findings", "f.csv"],
                cwd=folder, check=True, capture_output=True,
            )  # fmt: skip
            out[f"{what}, two processes, samples/s"] = STREAMS * SAMPLES / (time.perf_counter() - begin)
        out["largest of those processes, MB"] = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1024
    out |= _kernels()
    return out


def _kernels() -> dict[str, Any]:
    from bench.measures import median_time, taps
    from watchtide.core import decompose
    from watchtide.core.explain import discords

    y = taps(20_000)
    out: dict[str, Any] = {
        "discords, 20,000 samples, window 96, s": median_time(lambda: discords.nearest(y, 96), 1)
    }
    long = taps(1_000_000)
    begin = time.perf_counter()
    decompose.loess(long, 1440)
    out["plain loess, 1,000,000 samples, period 1,440, s"] = time.perf_counter() - begin
    begin = time.perf_counter()
    decompose.loess(long, 1440, robust=True)
    out["robust loess, 1,000,000 samples, period 1,440, s"] = time.perf_counter() - begin
    out["peak memory with them, MB"] = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    begin = time.perf_counter()
    subprocess.run([sys.executable, "-m", "watchtide.cli.main", "--help"], check=True, capture_output=True)
    out["watchtide --help, s"] = time.perf_counter() - begin
    return out
