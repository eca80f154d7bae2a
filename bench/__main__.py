"""`./run bench [NAME…] [--json FILE]`: figures and ratios of one run; never a test."""

import argparse
import json
import time

from watchtide import kernels

kernels.use_cache()

from bench import measures  # noqa: E402 - the cache must be known before Numba is


def main() -> None:
    parser = argparse.ArgumentParser(prog="./run bench", description=__doc__)
    parser.add_argument("names", nargs="*", help="which; all without a name")
    parser.add_argument("--json", help="write the figures here too")
    options = parser.parse_args()
    figures = {}
    for name in options.names or measures.ALL:
        begin = time.perf_counter()
        figures[name] = measures.ALL[name]()
        print(f"\n{name} ({time.perf_counter() - begin:.0f} s)")
        for key, value in figures[name].items():
            print(f"  {key:<58} {value:,.3g}" if isinstance(value, float) else f"  {key:<58} {value}")
    if options.json:
        with open(options.json, "w") as file:
            json.dump(figures, file, indent=1)


if __name__ == "__main__":
    main()
