"""How long requests of this process took, for /metrics."""

from prometheus_client import CollectorRegistry, Histogram

# Seconds; the last but one is where a person has gone away.
BUCKETS = (0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 5.0, 10.0, 30.0)
METHODS = ("GET", "HEAD", "POST", "PUT", "PATCH", "DELETE")

registry = CollectorRegistry()
_seconds = Histogram(
    "watchtide_request_seconds",
    "Time to answer a request.",
    ["method", "route", "status"],
    buckets=BUCKETS,
    registry=registry,
)


def note(method: str, route: str, status: int, seconds: float) -> None:
    """route : the pattern and not the address, so that there are no more series than patterns, methods and kinds of status."""
    _seconds.labels(method if method in METHODS else "other", route, f"{status // 100}xx").observe(seconds)
