"""Samples of a program to a server, by OpenTelemetry's own exporter: what a lookout watches as it comes.

python send_by_opentelemetry.py http://127.0.0.1:8400 TOKEN [SAMPLES]

The token needs the scope push. A collector is set up alike: an `otlphttp` exporter with this address and header.
"""

import sys
import time

from opentelemetry.exporter.otlp.proto.http.metric_exporter import OTLPMetricExporter
from opentelemetry.sdk.metrics import MeterProvider
from opentelemetry.sdk.metrics.export import PeriodicExportingMetricReader
from opentelemetry.sdk.resources import Resource


def main(address: str, token: str, samples: int) -> None:
    exporter = OTLPMetricExporter(f"{address}/v1/metrics", headers={"Authorization": f"Bearer {token}"})
    reader = PeriodicExportingMetricReader(exporter, export_interval_millis=60_000)
    provider = MeterProvider([reader], resource=Resource({"service.name": "gate relay"}))
    queue = provider.get_meter("gate").create_gauge("queue_length", unit="people")
    for i in range(samples):
        queue.set(12 + i % 5, {"gate": "north"})
        provider.force_flush()
        time.sleep(0.05)
    provider.shutdown()


if __name__ == "__main__":
    main(sys.argv[1], sys.argv[2], int(sys.argv[3]) if len(sys.argv) > 3 else 10)
