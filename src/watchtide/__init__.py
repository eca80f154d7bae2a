"""Watch Tide: scan metric streams for anomalies and report how far the scan can be trusted."""

__version__ = "0.2.0"
