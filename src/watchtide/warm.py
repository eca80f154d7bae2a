"""Compile the kernels once, into the cache of the present source, so that no later call pays for it."""

from watchtide import kernels


def main() -> None:
    kernels.use_cache()
    stamp = kernels.cache_folder() / ".warm"
    if stamp.exists():
        return
    print("compiling the kernels", flush=True)
    import numpy as np

    from watchtide.core.expect.baselines import KINDS
    from watchtide.core.explain import discords
    from watchtide.core.judge.grouping import Group
    from watchtide.core.scoring.curve import Scored, curve
    from watchtide.core.scoring.rows import Label
    from watchtide.core.shifts import COSTS, search
    from watchtide.engine.scan import ahead, stages
    from watchtide.plan import Plan
    from watchtide.plan.text import from_data

    times = np.arange(3000, dtype=np.int64) * 900 * 10**9
    noise = np.random.default_rng(0).normal(size=3000)
    y = np.round(noise + 50 + 20 * np.sin(np.arange(3000) * 2 * np.pi / 96), 1)
    counts = np.random.default_rng(1).poisson(np.maximum(y, 1.0)).astype(float)
    scanned = stages.scan(stages.Input("", times, y), Plan())
    hourly = from_data({"baseline": {"seasons": ["24h"]}, "replay": {"window": "14d"}})
    stages.scan(stages.Input("", times, y), hourly, (), "replay")
    for kind in KINDS:
        plan = from_data({"baseline": {"kind": kind, "seasons": ["24h"]}, "shifts": {"of": "slope"}})
        stages.scan(stages.Input("", times[:1500], counts[:1500]), plan)
    shares = stages.Input("", times, np.minimum(counts, 100) / 100, denominators=np.full(3000, 100.0))
    stages.scan(shares, from_data({"prepare": {"as": "ratio"}, "baseline": {"seasons": ["24h"]}}))
    discords.nearest(y[:400], 24)
    coming = ahead.forecast(stages.Input("", times, y), hourly, 20)
    ahead.limit_reached(coming, float(coming.expected[0]) + 1)
    curve([Scored("", times, scanned.z)], [Label(0, 10)], group=Group())
    for cost in COSTS:
        search(noise[:200], cost=cost)
    stamp.parent.mkdir(parents=True, exist_ok=True)
    stamp.touch()


if __name__ == "__main__":
    main()
