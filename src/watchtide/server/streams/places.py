"""Places: the stream that a pushed or fetched series belongs to, under the identity rules in force."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

from watchtide.server.streams import catalogue
from watchtide.server.streams.models import IdentityVersion, Stream
from watchtide.tables import identity
from watchtide.tables.identity import DEFAULTS, Rule
from watchtide.tables.points import BOUND, COUNTED, Attributes


def newest(*, is_locked: bool = False) -> IdentityVersion | None:
    """The newest rules that are not undone, for this transaction alone where locked; None while the defaults are in force."""
    found = IdentityVersion.objects.filter(undone_at__isnull=True).order_by("-pk")
    return (found.select_for_update() if is_locked else found).first()


def in_force() -> tuple[Rule, ...]:
    """The rules in force; the defaults until somebody changes them."""
    version = newest()
    return DEFAULTS if version is None else identity.from_data(version.rules)


@dataclass(frozen=True)
class Place:
    """Where a series belongs: metric and attributes of its stream, how sources are combined, and whether these are
    its own attributes unchanged."""

    metric: str
    attributes: Attributes
    join: str
    is_direct: bool

    @cached_property
    def sha(self) -> str:
        return catalogue.sha(catalogue.stream_key(self.metric, self.attributes))

    def holder(self, is_counter: bool) -> tuple[str, str]:
        """(kind of the stream that holds such a series as it came, the digest of the stream it is combined into)."""
        if is_counter:
            return "counter", self.sha
        return ("samples", "") if self.is_direct else ("source", self.sha)


def place_of(metric: str, attributes: Attributes, rules: Sequence[Rule]) -> Place:
    """The place of a series. A histogram's buckets belong together whatever their bounds."""
    own = attributes[:-1] if attributes and attributes[-1][0] == BOUND else attributes
    kept, join = identity.identify(metric, own, rules)
    return Place(metric, kept, join, kept == own)


def place_of_stream(stream: Stream, rules: Sequence[Rule]) -> Place:
    pairs = tuple((str(a), str(b)) for a, b in stream.attributes)
    return place_of(stream.metric.removesuffix(COUNTED), pairs, rules)
