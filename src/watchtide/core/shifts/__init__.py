"""Where a series changes for good: searched for over a whole history, and raised as samples come."""

from watchtide.core.shifts.raising import (
    CLIP,
    LEAST_JUMP,
    LEAST_REGIME,
    SHARPEST,
    WARM_UP,
    Course,
    Raised,
    Running,
    online,
    online_on,
    sizes,
)
from watchtide.core.shifts.searching import (
    COSTS,
    MOST_ON_PATH,
    Shift,
    Step,
    cost,
    default_penalty,
    describe,
    path,
    search,
)

__all__ = [
    "CLIP",
    "COSTS",
    "LEAST_JUMP",
    "LEAST_REGIME",
    "MOST_ON_PATH",
    "SHARPEST",
    "WARM_UP",
    "Course",
    "Raised",
    "Running",
    "Shift",
    "Step",
    "cost",
    "default_penalty",
    "describe",
    "online",
    "online_on",
    "path",
    "search",
    "sizes",
]
