"""What MariaDB does for the queries of the screens: no table that grows is read as a whole but by what shows all of it."""

import pytest
from bench import plans, screens

from tests.server.conftest import own_database

# Per screen the tables whose rows it shows, or sums up, one and all: of what stands, and the logbook's.
SHOWN = {
    **{
        url: {"stream", "standing", "scan_stream", "finding", "logbook_entry"}
        for url in screens.URLS.values()
        if url.startswith("/api/v1/tide")
    },
    "/api/v1/review": {"stream", "standing", "finding"},
    "/api/v1/incidents": {"stream", "standing", "finding"},
    "/api/v1/catalogue": {"stream"},
    "/api/v1/logbook": {"logbook_entry"},
    "/api/v1/logbook/lanes": {"logbook_entry"},
    "/api/v1/scans": {"finding", "scan_stream"},
}


@pytest.fixture(scope="module")
def found():
    with own_database("plans") as environment:
        yield plans.of(environment, 1_000, 10_000, screens.URLS.values())


def test_only_what_shows_everything_reads_everything(found):
    whole = plans.whole_reads(found, 500)
    assert whole <= {(of, table) for of, tables in SHOWN.items() for table in tables}
    # And the recorder works: the tide table does show all streams.
    assert ("/api/v1/tide", "stream") in whole


def test_work_by_the_piece_goes_by_an_index(found):
    pieces = {r["of"] for r in found if not r["of"].startswith("/api/v1/")} | {"/api/v1/tide/ribbons"}
    assert {"what is to be folded", "deliveries that are due", "streams of a lookout that are due"} <= pieces
    for row in found:
        if row["of"] in pieces:
            for step in row["plan"]:
                assert int(step["rows"] or 0) <= 50, (row["of"], row["sql"], row["plan"])
