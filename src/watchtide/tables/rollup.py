"""Events to streams: a roll-up's state over chunks and batches, as figures and as bytes to be kept."""

from dataclasses import dataclass, field

import numpy as np
import pyarrow as pa

from watchtide.core.series import Floats, Ints, calendar, keys, rollups
from watchtide.core.series.rollups import Keyed, Moments
from watchtide.tables import clock
from watchtide.tables.extract import Attributes, Events, Extractor, StreamRows
from watchtide.tables.layout import Layout, Measure, RollUp
from watchtide.tables.problems import TableError

# More empty intervals than this between two events are a slip in a stamp.
MOST_BINS = 2_000_000
SHARES = {"p50": 0.5, "p90": 0.9, "p95": 0.95, "p99": 0.99}


@dataclass(frozen=True)
class State:
    """Everything a roll-up has to remember, by field: rows of events (the empty field), moments, sketches, hashes."""

    moments: dict[str, Moments] = field(default_factory=dict)
    sketches: dict[str, Keyed] = field(default_factory=dict)
    hashes: dict[str, Keyed] = field(default_factory=dict)


def state_of(events: Events, rollup: RollUp, zone: str) -> State:
    """The state of some events."""
    bins = clock.bin_starts(events.times, rollup.every_ns, zone)
    measures = {(m.how, m.field or "") for m in rollup.measures}
    moments = {"": rollups.moments(events.codes, bins, np.ones(len(bins)))}
    for name in {f for how, f in measures if how not in ("count", "distinct")}:
        moments[name] = rollups.moments(events.codes, bins, events.numbers[name])
    sketches = {
        name: rollups.sketch(events.codes, bins, events.numbers[name])
        for name in {f for how, f in measures if how in SHARES}
    }
    hashes = {
        name: rollups.hashes(events.codes, bins, events.hashes[name])
        for name in {f for how, f in measures if how == "distinct"}
    }
    return State(moments, sketches, hashes)


def merge(first: State, second: State) -> State:
    """Both states in one; the order does not matter."""

    def joined(a: dict, b: dict, how):  # type: ignore[no-untyped-def, type-arg]
        return {k: how(a[k], b[k]) if k in a and k in b else a.get(k, b.get(k)) for k in {**a, **b}}

    return State(
        joined(first.moments, second.moments, rollups.merge_moments),
        joined(first.sketches, second.sketches, rollups.merge_sketches),
        joined(first.hashes, second.hashes, rollups.merge_hashes),
    )


def figures(state: State, measure: Measure) -> tuple[Ints, Ints, Floats]:
    """(groups, bins, values) of one measure."""
    name = measure.field or ""
    if measure.how in SHARES:
        # No quantile lies outside of what was seen: one event is its own.
        groups, bins, values = rollups.quantiles(state.sketches[name], SHARES[measure.how])
        return groups, bins, np.clip(values, state.moments[name].least, state.moments[name].most)
    if measure.how == "distinct":
        return rollups.distinct(state.hashes[name])
    m = state.moments[name]
    values = {
        "count": lambda: m.counts.astype(np.float64),
        "sum": lambda: m.totals,
        "mean": lambda: m.totals / m.counts,
        "min": lambda: m.least,
        "max": lambda: m.most,
    }[measure.how]()
    return m.groups, m.bins, values


def all_bins(first: int, last: int, every_ns: int, zone: str) -> Ints:
    """Starts of all bins from one to another. Raises TableError for more than 2 million."""
    count = (last - first) // every_ns + 1
    if count > MOST_BINS:
        raise TableError(
            "roll-up", "every", f"{count:,} intervals between the first and the last event",
            "look for a stray stamp, or take longer intervals",
        )  # fmt: skip
    if months := clock.months_in(every_ns):
        ends = clock.utc_locals(np.array([first, last], np.int64), zone)
        a, b = calendar.month_of(ends) // months
        return clock.localise(calendar.month_start(np.arange(a, b + 1) * months), zone).times
    if not clock.is_calendar(every_ns):
        return first + every_ns * np.arange(count, dtype=np.int64)
    # Half a day more than the step cannot skip a bin, and what falls into one twice is one.
    guesses = np.arange(first, last + 1, every_ns // 2, dtype=np.int64)
    return np.unique(clock.bin_starts(np.r_[guesses, last], every_ns, zone))


def filled(
    bins: Ints, values: Floats, first: int, last: int, every_ns: int, zone: str, empty: float = 0.0
) -> tuple[Ints, Floats]:
    """All bins from one to another, those without a value with `empty`."""
    grid = all_bins(first, last, every_ns, zone)
    out = np.full(len(grid), empty)
    out[np.searchsorted(grid, bins)] = values
    return grid, out


def is_zero_when_empty(how: str) -> bool:
    """Whether an interval without events has a value: none is a count of 0, but has no mean."""
    return how in ("count", "sum", "distinct")


def metric_name(layout: Layout, measure: Measure) -> str:
    """The metric of a measure: the layout's own for the count, with field and measure behind it for others."""
    if measure.how == "count":
        return layout.metric or "events"
    return "_".join(word for word in (layout.metric, measure.field, measure.how) if word)


def streams_of(state: State, layout: Layout, attributes: list[Attributes]) -> list[StreamRows]:
    """The streams a roll-up becomes: one an (attributes, measure), empty intervals filled where they mean 0."""
    assert layout.rollup is not None
    out = []
    for measure in layout.rollup.measures:
        groups, bins, values = figures(state, measure)
        metric = metric_name(layout, measure)
        edges = np.searchsorted(groups, np.arange(len(attributes) + 1))
        for code, pairs in enumerate(attributes):
            b, v = bins[edges[code] : edges[code + 1]], values[edges[code] : edges[code + 1]]
            if len(b) == 0:
                continue
            if is_zero_when_empty(measure.how):
                b, v = filled(b, v, int(b[0]), int(b[-1]), layout.rollup.every_ns, layout.zone)
            named = ((("metric", metric),) if len(layout.rollup.measures) > 1 else ()) + pairs
            out.append(StreamRows(keys.encode(named), pairs, metric, b, v))
    return out


class Roller:
    """A roll-up over the chunks of one file."""

    def __init__(self, extractor: Extractor) -> None:
        assert extractor.layout.rollup is not None
        self.extractor, self.state = extractor, State()

    def add(self, events: Events) -> None:
        rollup = self.extractor.layout.rollup
        assert rollup is not None
        self.state = merge(self.state, state_of(events, rollup, self.extractor.layout.zone))

    def streams(self) -> list[StreamRows]:
        return streams_of(self.state, self.extractor.layout, self.extractor.attributes)


def of_group(state: State, group: int) -> State:
    """The part of a state that belongs to one group, which becomes group 0."""

    def part(columns):  # type: ignore[no-untyped-def]
        a, b = np.searchsorted(columns.groups, [group, group + 1])
        cut = {name: value[a:b] for name, value in vars(columns).items()}
        return type(columns)(**{**cut, "groups": np.zeros(b - a, np.int64)})

    return State(*({k: part(v) for k, v in d.items()} for d in (state.moments, state.sketches, state.hashes)))


def to_bytes(state: State) -> bytes:
    """A state as zstd-packed Arrow IPC streams, one after another, each named in its schema's metadata."""
    sink = pa.BufferOutputStream()
    with pa.CompressedOutputStream(sink, "zstd") as packed:
        for kind, parts in (("moments", state.moments), ("sketch", state.sketches), ("hashes", state.hashes)):
            for name, columns in parts.items():
                table = pa.table({k: pa.array(v) for k, v in vars(columns).items()})
                table = table.replace_schema_metadata({"kind": kind, "field": name})
                with pa.ipc.new_stream(packed, table.schema) as writer:
                    writer.write_table(table)
    return bytes(sink.getvalue())


def from_bytes(data: bytes) -> State:
    moments: dict[str, Moments] = {}
    sketches: dict[str, Keyed] = {}
    hashes: dict[str, Keyed] = {}
    with pa.CompressedInputStream(pa.BufferReader(data), "zstd") as packed:
        plain = pa.BufferReader(packed.read())
    while plain.tell() < plain.size():
        table = pa.ipc.open_stream(plain).read_all()
        columns = {n: table.column(n).to_numpy() for n in table.column_names}
        facts = {k.decode(): v.decode() for k, v in (table.schema.metadata or {}).items()}
        match facts["kind"]:
            case "moments":
                moments[facts["field"]] = Moments(**columns)
            case "sketch":
                sketches[facts["field"]] = Keyed(**columns)
            case _:
                hashes[facts["field"]] = Keyed(**columns)
    return State(moments, sketches, hashes)
