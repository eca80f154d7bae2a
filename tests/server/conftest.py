"""A real MariaDB with a small scanned world in it; each test rolls back what it does."""

import contextlib
import os
import uuid

import pytest
from bench.watch import connected, environment_of

from tests import world

SPIKES = (200, 500, 777)


def pytest_collection_modifyitems(items):
    if not os.environ.get("WATCHTIDE_DB_SOCKET"):
        for item in items:
            if "tests/server" in str(item.path) or "tests/browser" in str(item.path):
                item.add_marker(pytest.mark.skip(reason="needs its own MariaDB: ./run test"))


@pytest.fixture(scope="session")
def small_world(django_db_setup, django_db_blocker, tmp_path_factory):
    """Three streams taken in through the API's own services, labelled and scanned; committed."""
    from django.conf import settings
    from django.contrib.auth.models import User

    from watchtide.server.logbook import services as logbook
    from watchtide.server.people.access import give_role
    from watchtide.server.scans import services as scans
    from watchtide.server.scans.models import Scan
    from watchtide.server.streams import files as streams
    from watchtide.server.streams.models import Stream
    from watchtide.tables import labels

    settings.DATA_FOLDER = tmp_path_factory.mktemp("data")
    settings.SCAN_PROCESSES = 1
    # A second of hashing at each of some hundred sign-ins tests nothing; the browser's tests hash as in life.
    settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]
    with django_db_blocker.unblock():
        for name, role in (("ann", "analyst"), ("vic", "viewer"), ("ada", "admin")):
            give_role(User.objects.create_user(name, password="correct horse"), role)
        ann = User.objects.get(username="ann")
        text = world.csv_of(
            {
                "quay": world.hourly(spikes=SPIKES),
                "pier": world.hourly(seed=1),
                "rock": world.hourly(spikes=(650,), seed=2),
            }
        )
        upload = streams.take_upload("level.csv", [text.encode()], ann)
        streams.store_upload(upload, {"metric": "level", "unit": "m"}, ann)
        run_jobs()
        rows = [("metric=level,place=quay", at, at + 2, "incident") for at in SPIKES[:2]]
        rows += [("metric=level,place=pier", 300, 305, "incident"), ("metric=level", 0, 700, "reviewed")]
        logbook.take_in(labels.read_labels(world.labels_csv(rows).encode(), "l.csv"), "ann")
        version = scans.plan_version(scans.STANDARD, from_data({"flag": {"level": {"sigmas": 6}}}), "ann")
        scan = scans.start(
            version, list(Stream.objects.values_list("pk", flat=True)), user=ann, is_standing=True
        )
        run_jobs()
        return {"scan": Scan.objects.get(pk=scan.pk), "csv": text, "labels": rows}


@contextlib.contextmanager
def own_database(prefix):
    """Settings of processes over an empty database beside that of the tests; it goes at the end."""
    name = f"{prefix}_{uuid.uuid4().hex[:12]}"
    with connected({**os.environ, "WATCHTIDE_DB_NAME": "information_schema"}) as cursor:
        cursor.execute(f"CREATE DATABASE `{name}`")
        try:
            yield environment_of({"WATCHTIDE_DB_NAME": name})
        finally:
            cursor.execute(f"DROP DATABASE `{name}`")


def from_data(data):
    from watchtide.plan import text

    return text.from_data(data)


def run_jobs():
    """Do what a worker would: all queued jobs, in their order."""
    from watchtide.server.jobs import services
    from watchtide.server.jobs.models import Job

    while (job := Job.objects.filter(state="queued").order_by("pk").first()) is not None:
        services.run(job.pk)


@pytest.fixture(autouse=True)
def nothing_remembered():
    """A worker's memory of streams, which a test's rows do not outlive."""
    yield
    if os.environ.get("WATCHTIDE_DB_SOCKET"):
        from watchtide.server.lookouts import tasks

        tasks.glances.clear()


@pytest.fixture
def api(small_world, db, client):
    """A browser's session of the analyst, with CSRF checked as in life."""
    return signed_in("ann")


def signed_in(name):
    from rest_framework.test import APIClient

    client = APIClient(enforce_csrf_checks=True)
    client.get("/api/v1/session")
    token = client.cookies["watchtide_csrf"].value
    client.credentials(HTTP_X_CSRFTOKEN=token)
    answer = client.post("/api/v1/session", {"name": name, "password": "correct horse"}, format="json")
    assert answer.status_code == 200, answer.content
    client.credentials(HTTP_X_CSRFTOKEN=client.cookies["watchtide_csrf"].value)
    return client


@pytest.fixture
def admin(small_world, db):
    return signed_in("ada")


@pytest.fixture
def stream_of(small_world, db):
    from watchtide.server.streams.models import Stream

    return lambda place: Stream.objects.get(key=f"metric=level,place={place}")


@pytest.fixture
def sender(small_world, db):
    """A client with a token that may push, and nothing else."""
    from django.contrib.auth.models import User
    from rest_framework.test import APIClient

    from watchtide.server.people.access import make_token
    from watchtide.server.streams import limits, live

    limits.clear()
    live.numbers.forget()
    live.begun.clear()
    _, text = make_token(User.objects.get(username="ann"), "gate relay", ["push"])
    client = APIClient()
    client.credentials(HTTP_AUTHORIZATION=f"Bearer {text}")
    return client
