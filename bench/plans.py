"""What MariaDB does for the queries of the screens and of the work behind them: their plans, and which take longest.

Queries are recorded while they are made, over streams and findings put into a database for it; each is explained with the
values that it had. `reading` names the tables that a query reads as a whole.
"""

import json
from collections.abc import Iterable
from typing import Any

from bench import screens
from bench.watch import child, environment_of, migrate

# Beside what the screens show: samples, jobs, hints, and what waits to be sent.
MORE = """
import django; django.setup()
import sys
from django.db import connection
from watchtide.server import moments
from watchtide.server.jobs.models import Event, Job

from watchtide.server.lookouts.models import Lookout, Watched
from watchtide.server.scans.models import PlanVersion
from watchtide.server.streams.models import Batch, Block, Segment, Stream
n = int(sys.argv[1])
now = moments.now()
ids = list(Stream.objects.order_by("pk").values_list("pk", flat=True))
batch = Batch.objects.create(key="b" * 64, source="bench", accepted_at=now)
Block.objects.bulk_create([Block(batch=batch, payload=bytes(100), index=b"", samples=10, folded_at=now) for _ in range(n)], batch_size=2_000)
step = 60 * 10**9
Segment.objects.bulk_create([
    Segment(stream_id=s, first_ns=k * 16_384 * step, last_ns=(k + 1) * 16_384 * step - step, count=16_384, payload=bytes(100))
    for s in ids for k in range(6)], batch_size=2_000)
Job.objects.bulk_create([Job(kind="fold", lane="bulk", title="fold", state="done", arguments={}) for _ in range(n)], batch_size=2_000)
Event.objects.bulk_create([Event(kind="job", subject=str(i), payload={}) for i in range(n)], batch_size=2_000)
version = PlanVersion.objects.first()

lookout = Lookout.objects.create(name="bench", plan_version=version, scope={})
Watched.objects.bulk_create([Watched(lookout=lookout, stream_id=s, next_ns=4 * 10**18) for s in ids], batch_size=2_000)
with connection.cursor() as cursor:
    cursor.execute("SHOW TABLES")
    for (table,) in cursor.fetchall():
        cursor.execute(f"ANALYZE TABLE `{table}`")
"""

LOOK = """
import django; django.setup()
import json, re, sys, time
from django.db import connection
from rest_framework.test import APIClient
from watchtide.server.jobs import duties, running, services as jobs
from watchtide.server.lookouts import sending
from watchtide.server.lookouts.models import Lookout
from watchtide.server.lookouts import services as lookouts
from watchtide.server.scans.models import Finding
from watchtide.server.streams import folding, store
from watchtide.server.streams.models import Stream
client = APIClient()
client.post("/api/v1/session", {"name": "ann", "password": "correct horse"}, format="json")
stream = Stream.objects.order_by("pk").first().pk
finding = Finding.objects.order_by("pk").first().pk
seen = {}
doing = ""
def record(execute, sql, params, many, context):
    begin = time.perf_counter()
    try:
        return execute(sql, params, many, context)
    finally:
        took = time.perf_counter() - begin
        if sql.lstrip().upper().startswith("SELECT") and not many:
            # Lists of values of any length are one query.
            key = re.sub(r"\\\\((?:%s, )*%s\\\\)", "(…)", sql)
            row = seen.setdefault(key, {"sql": sql, "params": params, "s": 0.0, "n": 0, "of": doing})
            row["s"] += took
            row["n"] += 1
def get(url):
    def go():
        answer = client.get(url)
        assert answer.status_code == 200, (url, answer.content[:300])
    return go
WORK = {url: get(url) for url in json.loads(sys.argv[1])}
WORK |= {
    "/api/v1/tide/ribbons": get(f"/api/v1/tide/ribbons?streams={stream},{stream + 1}"),
    "/api/v1/streams/ID/facts": get(f"/api/v1/streams/{stream}/facts"),
    "samples of a stream": lambda: [store.pending(), Stream.objects.get(pk=stream)],
    "what is to be folded": lambda: folding._next_group(100),
    "deliveries that are due": lambda: sending._claim(10),
    "streams of a lookout that are due": lambda: lookouts.due_now(Lookout.objects.get()),
}
with connection.execute_wrapper(record):
    for doing, go in WORK.items():
        go()
out = []
with connection.cursor() as cursor:
    for row in seen.values():
        cursor.execute("EXPLAIN " + row["sql"], row["params"])
        names = [c[0] for c in cursor.description]
        plan = [dict(zip(names, r)) for r in cursor.fetchall()]
        out.append({"of": row["of"], "sql": row["sql"][:2_000], "s": row["s"], "n": row["n"],
                    "plan": [{k: r.get(k) for k in ("table", "type", "key", "rows", "Extra")} for r in plan]})
print(json.dumps(out))
"""


def of(environment: dict[str, str], streams: int, findings: int, urls: Iterable[str]) -> list[dict[str, Any]]:
    """Each query once, with its plan, what it was made for, and how long it took; in an empty database of these settings."""
    migrate(environment)
    screens.fill(environment, streams, findings)
    child(environment, MORE, str(streams))
    found: list[dict[str, Any]] = json.loads(
        child(environment | {"WATCHTIDE_HOSTS": "testserver"}, LOOK, json.dumps(list(urls)))[-1]
    )
    return found


def whole_reads(found: Iterable[dict[str, Any]], least_rows: int) -> set[tuple[str, str]]:
    """(what for, table) of the queries that read every row of a table of at least so many."""
    return {
        (row["of"], step["table"])
        for row in found
        for step in row["plan"]
        if step["type"] == "ALL"
        and int(step["rows"] or 0) >= least_rows
        and not str(step["table"]).startswith("<")
    }


if __name__ == "__main__":
    from watchtide.server.mariadb import running

    with screens.temporary_folder() as folder, running(folder / "plans", is_throwaway=True) as database:
        database.create("watchtide")
        own = environment_of(
            {
                **database.environment("watchtide"),
                "WATCHTIDE_DATA": str(folder / "data"),
                "WATCHTIDE_HOME": str(folder),
            }
        )
        rows = of(own, screens.STREAMS, screens.FINDINGS, screens.URLS.values())
        for row in sorted(rows, key=lambda r: -r["s"])[:14]:
            steps = "; ".join(f"{p['table']} {p['type']} {p['key'] or '-'} {p['rows']}" for p in row["plan"])
            print(
                f"{1_000 * row['s']:8.1f} ms in {row['n']:>4}  {row['of']:<36} {row['sql'][:110]!r}  {steps}"
            )
        print(sorted(whole_reads(rows, screens.STREAMS // 2)))
