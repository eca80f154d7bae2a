"""Put the demo's data into a running application, through the same intake a user would use."""

import os
import sys
import time
from collections.abc import Callable
from pathlib import Path

from watchtide import kernels

FEEDS = ("Ticket office", "Harbour days")


def main() -> None:
    kernels.use_cache()
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "watchtide.server.settings")
    import django

    django.setup()
    load(lambda line: print(f"  {line}", flush=True))
    if len(sys.argv) >= 3:
        live(Path(sys.argv[1]), sys.argv[2])
        if "--no-lookouts" not in sys.argv:
            watch(sys.argv[2])
    else:
        still()


def load(say: Callable[[str], None]) -> None:
    """Sign up demo, hand in every family's file, import the logbook, and run the standing scan. Once."""
    from django.contrib.auth.models import User

    from watchtide.demo import more, world
    from watchtide.plan.text import from_data
    from watchtide.server.logbook import services as logbook
    from watchtide.server.logbook.models import Entry
    from watchtide.server.people.access import give_role
    from watchtide.server.scans import services as scans
    from watchtide.server.scans.models import Scan, Standing
    from watchtide.server.streams import calendars, renewing
    from watchtide.server.streams import files as streams
    from watchtide.server.streams.models import Batch, Derived, Stream
    from watchtide.tables import labels

    user = User.objects.filter(username="demo").first()
    if user is None:
        user = User.objects.create_user("demo", password="demo", first_name="Maud Rask")
    # Who tries it out may do everything; the mate is an analyst.
    give_role(user, "admin")
    if not User.objects.filter(username="mate").exists():
        # A second person, so that a review by two can be tried.
        give_role(User.objects.create_user("mate", password="mate", first_name="Ivo Sund"), "analyst")
        give_role(User.objects.create_user("ana", first_name="Ana Brae", password="ana"), "viewer")
    if Standing.objects.exists():
        say("the demo data are there")
        return

    say("making up sixteen weeks of the harbour")
    families = world.build()
    waiting = []
    for family in families:
        if Batch.objects.filter(source=f"{family.metric}.csv", accepted_at__isnull=False).exists():
            continue
        text = world.family_csv(family).encode()
        upload = streams.take_upload(f"{family.metric}.csv", [text], user)
        given = {
            "zone": world.ZONE,
            "metric": family.metric,
            "unit": family.unit,
            "bad_side": family.bad_side,
        }
        waiting.append(streams.store_upload(upload, given, user))
        say(f"handed in {family.metric}.csv, {len(text) / 1e6:.1f} MB, {len(family.streams)} streams")
    unscanned = set()
    for file in more.files():
        unscanned |= set() if file.is_scanned else {str(file.given["metric"])}
        if Batch.objects.filter(source=file.name, accepted_at__isnull=False).exists():
            continue
        data = file.make()
        upload = streams.take_upload(file.name, [data], user)
        waiting.append(streams.store_upload(upload, file.given, user))
        say(f"handed in {file.name}, {len(data) / 1e6:.1f} MB")
    _wait(waiting, say)
    for formula in more.FORMULAS:
        if not Derived.objects.filter(metric=formula["metric"]).exists():
            _wait([renewing.define(dict(formula), user)[1]["job"]], say)
    calendars.keep("Harbour days", more.calendar_ics(), world.ZONE, user)
    if not Entry.objects.exists():
        added, _, _ = logbook.take_in(
            labels.read_labels(world.logbook_csv().encode(), "logbook.csv"), "M. Rask"
        )
        of_ramps, _, _ = logbook.take_in(
            labels.read_labels(more.ramp_logbook_csv().encode(), "ramps.csv"), "M. Rask"
        )
        say(f"{added + of_ramps} entries in the logbook")

    version = scans.plan_version(
        scans.STANDARD, from_data({"group": {"need": 2, "of": 3, "merge": "2h"}}), "demo"
    )
    found = (
        Stream.objects.exclude(kind="counter").exclude(metric__in=unscanned).filter(numerators__isnull=True)
    )
    ids = list(found.order_by("pk").values_list("pk", flat=True))
    scan = Scan.objects.filter(
        is_standing=True, finished_at__isnull=True, job__state__in=("queued", "running")
    ).first()
    scan = scan or scans.start(version, ids, user=user, is_standing=True, lane="interactive")
    _wait([scan.job], say)
    say(f"scanned {len(ids)} streams")
    # Each lowering of a ramp is judged as a whole.
    bursts = scans.plan_version("ramp watch", from_data(more.RAMP_PLAN), "demo")
    ramps = list(Stream.objects.filter(metric="ramp_vibration").order_by("pk").values_list("pk", flat=True))
    own = Scan.objects.filter(plan_version=bursts, is_standing=True).first()
    own = own or scans.start(bursts, ramps, user=user, is_standing=True, lane="interactive")
    _wait([own.job], say)
    say(f"scanned the lowerings of {len(ramps)} ramps")


def live(folder: Path, address: str) -> None:
    """A token for the harbour's relay, and the feeds that fetch from it; once."""
    from datetime import timedelta

    from django.contrib.auth.models import User
    from django.utils import timezone

    from watchtide.demo import world
    from watchtide.server.people.access import digest_of, make_token
    from watchtide.server.people.models import Token
    from watchtide.server.streams.models import Feed

    user = User.objects.get(username="demo")
    path = folder / "relay.token"
    if not path.is_file() or not Token.objects.filter(digest=digest_of(path.read_text())).exists():
        _, text = make_token(user, "harbour relay", ["push"])
        path.touch(mode=0o600)
        path.write_text(text)
    for name, kind, where, every in (
        (FEEDS[0], "metrics", "/metrics", 10),
        (FEEDS[1], "calendar", "/calendar.ics", 3_600),
    ):
        Feed.objects.update_or_create(
            name=name,
            defaults={
                "kind": kind, "url": address + where, "every_s": every, "timeout_s": 5, "zone": world.ZONE,
                "created_by": user, "failures": 0, "is_on": True, "last_status": "", "is_fine": None,
                # They are there some seconds after the web server.
                "next_at": timezone.now() + timedelta(seconds=20),
            },
        )  # fmt: skip


# Two lookouts from the start, each with its scope.
LOOKOUTS = (
    ("Gate watch", {"metric": "gate_taps", "attributes": {}}),
    ("Berth watch", {"metric": "berth_level", "attributes": {}}),
)
DUTY = "duty@skerrymoor.example"


def watch(address: str) -> None:
    """Routes to the stand-ins' mail server and hook, and the lookouts of the harbour; once."""
    from django.utils import timezone

    from watchtide.server.lookouts import sending, services
    from watchtide.server.lookouts.models import HOOK, MAIL, Lookout, Route
    from watchtide.server.scans.models import Standing

    # The stand-ins listen elsewhere at each start.
    Route.objects.filter(name="Harbour hook", created_by="demo").update(to=f"{address}/hook")
    Lookout.objects.filter(name__in=[name for name, _ in LOOKOUTS], created_by="demo").update(is_on=True)
    if Lookout.objects.exists() or Route.objects.exists():
        return
    mail = Route.objects.create(
        kind=MAIL, name="Duty desk", to=DUTY, confirmed_at=timezone.now(), created_by="demo"
    )
    hook = Route.objects.create(
        kind=HOOK, name="Harbour hook", to=f"{address}/hook", secret=sending.new_secret(), has_points=True,
        created_by="demo",
    )  # fmt: skip
    version = Standing.objects.select_related("plan_version").order_by("pk").first()
    assert version is not None
    for name, scope in LOOKOUTS:
        services.make(name, version.plan_version, "demo", [mail.pk, hook.pk], scope=scope)


def still() -> None:
    """Without live streams nobody answers the feeds of an earlier start: they are turned off, and nothing is sent."""
    from watchtide.server.lookouts.models import Lookout
    from watchtide.server.streams.models import Feed

    Feed.objects.filter(name__in=FEEDS, created_by__username="demo").update(is_on=False)
    Lookout.objects.filter(name__in=[name for name, _ in LOOKOUTS], created_by="demo").update(is_on=False)


def _wait(waiting: list, say: Callable[[str], None]) -> None:
    """Until the workers have done these jobs; their failure is ours."""
    from watchtide.server.jobs.models import OPEN

    told = 0.0
    while waiting:
        time.sleep(0.3)
        for job in list(waiting):
            job.refresh_from_db()
            if job.state not in OPEN:
                waiting.remove(job)
                if job.state != "done":
                    print(f"{job.title}: {job.state}: {job.message}\n{job.log}", file=sys.stderr)
                    raise SystemExit(1)
        if waiting and time.monotonic() - told > 5:
            told = time.monotonic()
            job = waiting[0]
            say(f"{job.title}: {job.done} of {job.total or '?'}")


if __name__ == "__main__":
    main()
