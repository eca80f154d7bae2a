"""Watch Tide: scan metric streams for anomalies and report how far the scan can be trusted.

import watchtide as wt

found = wt.scan(table, tz="Europe/Dublin")
found.findings.to_pandas()
"""

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from watchtide.door.asking import Parts, Score, decompose, score, seasons, shifts
    from watchtide.door.errors import InputError, PlanError, TableError
    from watchtide.door.found import Scan
    from watchtide.door.models import Diagnosis, Forecast, Models, diagnose, forecast, load
    from watchtide.door.scanning import scan
    from watchtide.door.tables import Table
    from watchtide.door.watching import watch
    from watchtide.door.weighing import Comparison, Threshold, compare, sample, threshold
    from watchtide.plan import Plan
    from watchtide.tables.remote import AddressError, allowed

__version__ = "0.2.0"
__all__ = [
    "AddressError",
    "Comparison",
    "Diagnosis",
    "Forecast",
    "InputError",
    "Models",
    "Parts",
    "Plan",
    "PlanError",
    "Scan",
    "Score",
    "Table",
    "TableError",
    "Threshold",
    "__version__",
    "allowed",
    "compare",
    "decompose",
    "diagnose",
    "forecast",
    "load",
    "sample",
    "scan",
    "score",
    "seasons",
    "shifts",
    "threshold",
    "watch",
]

# Where each name is: the numerics take a second to import, and the command needs them seldom.
_WHERE = {
    **dict.fromkeys(("Parts", "Score", "decompose", "score", "seasons", "shifts"), "watchtide.door.asking"),
    **dict.fromkeys(
        ("Diagnosis", "Forecast", "Models", "diagnose", "forecast", "load"), "watchtide.door.models"
    ),
    **dict.fromkeys(("Comparison", "Threshold", "compare", "sample", "threshold"), "watchtide.door.weighing"),
    "watch": "watchtide.door.watching",
    **dict.fromkeys(("AddressError", "allowed"), "watchtide.tables.remote"),
    "InputError": "watchtide.door.errors",
    "PlanError": "watchtide.door.errors",
    "TableError": "watchtide.door.errors",
    "Plan": "watchtide.plan",
    "Scan": "watchtide.door.found",
    "scan": "watchtide.door.scanning",
    "Table": "watchtide.door.tables",
}


def __getattr__(name: str) -> Any:
    if name not in _WHERE:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    from importlib import import_module

    return getattr(import_module(_WHERE[name]), name)


def __dir__() -> list[str]:
    return sorted({*globals(), *__all__})
