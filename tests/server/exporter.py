"""A process as engineers write them: counters, a gauge, an up-down counter and a histogram, by the real OpenTelemetry SDK.

`python exporter.py URL --ticks N --pilots N [--version V]` exports N times, a quarter of a second apart, and ends.
"""

import argparse
import time

from opentelemetry.exporter.otlp.proto.http.metric_exporter import OTLPMetricExporter
from opentelemetry.sdk.metrics import MeterProvider
from opentelemetry.sdk.metrics.export import PeriodicExportingMetricReader
from opentelemetry.sdk.resources import (
    OTELResourceDetector,
    ProcessResourceDetector,
    Resource,
    get_aggregated_resources,
)


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("url")
    parser.add_argument("--ticks", type=int, default=8)
    parser.add_argument("--pilots", type=int, default=3)
    parser.add_argument("--instance", required=True)
    parser.add_argument("--unit", default="{pilot}")
    options = parser.parse_args()
    resource = get_aggregated_resources(
        [ProcessResourceDetector(), OTELResourceDetector()],
        Resource.create(
            {
                "service.name": "pilot-desk",
                "service.instance.id": options.instance,
                "service.version": "1.4.2",
            }
        ),
    )
    exporter = OTLPMetricExporter(endpoint=f"{options.url}/v1/metrics")
    # Exports come by force_flush alone: the interval is longer than the process lives.
    reader = PeriodicExportingMetricReader(exporter, export_interval_millis=3_600_000)
    provider = MeterProvider(resource=resource, metric_readers=[reader])
    meter = provider.get_meter("pilots", "0.9")
    boardings = meter.create_counter("pilot_boardings", unit="{boarding}")
    waiting = meter.create_up_down_counter("pilots_waiting", unit=options.unit)
    fuel = meter.create_gauge("pilot_boat_fuel", unit="%")
    times = meter.create_histogram(
        "boarding_time", unit="s", explicit_bucket_boundaries_advisory=[1.0, 5.0, 20.0]
    )
    waiting.add(options.pilots, {"harbour": "h1"})
    for i in range(options.ticks):
        boardings.add(options.pilots, {"harbour": "h1"})
        fuel.set(50.0 + options.pilots, {"harbour": "h1"})
        times.record(3.0 + i % 2, {"harbour": "h1"})
        provider.force_flush()
        time.sleep(0.25)
    provider.shutdown()


if __name__ == "__main__":
    main()
