"""A nightly gate over an extract of a warehouse: only new rows are judged, and the build fails where something strays.

python nightly_gate.py FOLDER QUERY_RESULT

What a warehouse hands over is anything with Arrow's C stream; here a Parquet file stands for it. Exit status 1 where something was found.
"""

import sys
from pathlib import Path

import pyarrow.parquet as papq

import watchtide as wt

PLAN = {
    "baseline": {"kind": "slot", "seasons": ["24h"]},
    "replay": {"refit": "1d", "window": "14d"},
    "flag": {"level": {"sigmas": 6}},
}


def main(folder: Path, extract: Path) -> int:
    rows = papq.read_table(extract)
    new = wt.scan(rows, PLAN, state=folder / "taps.state", tz="Europe/Dublin")
    new.write_findings(folder / "new.csv")
    print(new)
    for row in new.findings.to_pylist():
        print(f"  {row['series']} from {row['start']:%d %b %H:%M}: {row['kind']} {row['direction']}")
    return 1 if len(new.findings) else 0


if __name__ == "__main__":
    raise SystemExit(main(Path(sys.argv[1]), Path(sys.argv[2])))
