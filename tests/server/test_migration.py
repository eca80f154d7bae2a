"""A database of the version before: what it had taken in and not yet folded is there after the upgrade."""

import json
import subprocess
import sys

from tests import databases

NAME = "watchtide_upgrade"
# Two streams in one block, as the first version wrote it: one Parquet for all, and a row for each piece.
UPGRADE = """
import django, json; django.setup()
import numpy as np
from django.core.management import call_command
from django.db import connection
from watchtide.server.streams import folding, store
call_command("migrate", "streams", "0001", verbosity=0)
with connection.cursor() as c:
    for n in (1, 2):
        c.execute("INSERT INTO stream (id, metric, `key`, key_sha, attributes, unit, zone, bad_side, step_ns, samples, created_at) "
                  "VALUES (%s, 'm', %s, %s, '[]', '', 'UTC', 'both', 0, 0, NOW())", [n, f"metric=m,n={n}", f"{n:064d}"])
    c.execute("INSERT INTO batch (id, `key`, source, layout, rows_taken, rows_aside, aside, streams, created_at, accepted_at) "
              "VALUES (1, 'old', 'old.csv', '{}', 5, 0, '', 2, NOW(), NOW())")
    payload = store.pack(np.array([10, 20, 30, 15, 25]), np.array([1.0, 2, 3, 4, 5]))
    c.execute("INSERT INTO intake_block (id, payload, samples, batch_id) VALUES (1, %s, 5, 1)", [payload])
    for stream, start, count, first, last in ((2, 0, 3, 10, 30), (1, 3, 2, 15, 25)):
        c.execute("INSERT INTO intake_piece (block_id, stream_id, start, count, first_ns, last_ns) VALUES (1, %s, %s, %s, %s, %s)",
                  [stream, start, count, first, last])
call_command("migrate", "streams", verbosity=0)
before = [[x.tolist() for x in store.read(n)] for n in (1, 2)]
folding.fold()
print(json.dumps([before, [[x.tolist() for x in store.read(n)] for n in (1, 2)]]))
"""


def test_what_was_not_yet_folded_survives_the_upgrade():
    with databases.empty(NAME) as environment:
        environment["DJANGO_SETTINGS_MODULE"] = "watchtide.server.settings"
        done = subprocess.run(
            [sys.executable, "-c", UPGRADE], env=environment, capture_output=True, text=True
        )
        assert done.returncode == 0, done.stderr
        before, after = json.loads(done.stdout.splitlines()[-1])
        assert before == after == [[[15, 25], [4, 5]], [[10, 20, 30], [1, 2, 3]]]
