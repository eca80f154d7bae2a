"""How findings fare against labels: counts, ratios, intervals, and the curve over all levels."""

from watchtide.core.scoring.intervals import wilson
from watchtide.core.scoring.spans import EventCounts, events

__all__ = ["EventCounts", "events", "wilson"]
