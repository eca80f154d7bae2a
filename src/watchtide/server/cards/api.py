"""Scorecards over REST: counted, a level chosen on them, compared, published, and sent out as files."""

import math
from typing import Any

from django.http import HttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response
from rest_framework.views import APIView

from watchtide.core.scoring.choice import Constraint
from watchtide.server import moments, paging, query
from watchtide.server.cards import counting, effects, publishing
from watchtide.server.cards.counting import Selection
from watchtide.server.cards.models import Published
from watchtide.server.jobs.models import Job
from watchtide.server.logbook import services as logbook
from watchtide.server.people import trail
from watchtide.server.problems import Problem
from watchtide.server.scans import reading
from watchtide.server.scans.api import (
    CurveSerializer,
    FindingSerializer,
    NumbersField,
    PairedSerializer,
    ScanSerializer,
)
from watchtide.server.scans.models import Plan, Scan
from watchtide.tables import clock, report


def plain_row(**options: Any) -> serializers.DictField:
    """A row whose names are known to the core and the page alone."""
    return serializers.DictField(child=serializers.JSONField(), **options)


class CutSerializer(serializers.Serializer):
    """Counts of one stream, family, cause or month; ratios are null where there is nothing to divide by."""

    stream = serializers.IntegerField(required=False)
    name = serializers.CharField(allow_blank=True)
    tp_findings = serializers.IntegerField()
    fp_findings = serializers.IntegerField()
    unjudged = serializers.IntegerField()
    tp_labels = serializers.IntegerField()
    fn_labels = serializers.IntegerField()
    precision = serializers.FloatField(allow_null=True)
    precision_ci = NumbersField(allow_null=True)
    recall = serializers.FloatField(allow_null=True)
    recall_ci = NumbersField(allow_null=True)
    f1 = serializers.FloatField(allow_null=True)
    delay_s = serializers.FloatField(allow_null=True)
    weeks = serializers.FloatField(required=False)
    false_per_week = serializers.FloatField(allow_null=True, required=False)


class DelaySerializer(serializers.Serializer):
    seconds = serializers.FloatField()
    kind = serializers.CharField(allow_blank=True)
    cause = serializers.CharField(allow_blank=True)
    start = query.MomentField()


class LevelsSerializer(serializers.Serializer):
    streams = serializers.IntegerField(help_text="that promise at every level, and are counted here")
    promised = NumbersField()
    seen = NumbersField()


class CalibrationSerializer(serializers.Serializer):
    """False findings a stream-week, promised and seen; levels : both at the levels of the curve."""

    promised = serializers.FloatField(allow_null=True)
    seen = serializers.FloatField(allow_null=True)
    seen_ci = NumbersField(allow_null=True)
    false = serializers.IntegerField()
    weeks = serializers.FloatField()
    levels = LevelsSerializer(allow_null=True)


class SpanSerializer(serializers.Serializer):
    """Closed."""

    start = query.MomentField()
    end = query.MomentField()


class LockedSerializer(serializers.Serializer):
    """Figures on the locked span alone; broken : in words, what had seen it before it was locked."""

    span = SpanSerializer()
    events = plain_row()
    false_per_week = plain_row()
    broken = serializers.CharField(allow_blank=True)


class MissedSerializer(serializers.Serializer):
    """An incident that no finding matches."""

    stream = serializers.IntegerField(allow_null=True, help_text="the first of those it covers")
    title = serializers.CharField()
    streams = serializers.IntegerField(help_text="that it covers")
    start = query.MomentField()
    end = query.MomentField()
    kind = serializers.CharField(allow_blank=True)
    cause = serializers.CharField(allow_blank=True)


class FalseSerializer(serializers.Serializer):
    """A finding that matches no incident."""

    stream = serializers.IntegerField()
    title = serializers.CharField()
    start = query.MomentField()
    end = query.MomentField()
    kind = serializers.CharField()
    direction = serializers.CharField(allow_blank=True)
    score = serializers.FloatField(allow_null=True)


class CardSerializer(serializers.Serializer):
    span = SpanSerializer(help_text="what was counted")
    figures = plain_row()
    curve = CurveSerializer()
    missed = MissedSerializer(many=True)
    false = FalseSerializer(many=True)
    labels = serializers.IntegerField()
    zone = serializers.CharField()
    judged_weeks = serializers.FloatField(help_text="stream-weeks with a score, looked through or not")
    by_stream = CutSerializer(many=True)
    by_family = CutSerializer(many=True)
    by_cause = CutSerializer(many=True)
    by_month = CutSerializer(many=True)
    delays = DelaySerializer(many=True)
    calibration = CalibrationSerializer()
    locked = LockedSerializer(allow_null=True)
    quiet_findings = serializers.IntegerField(help_text="left out, for they lie in planned work")


class ScorecardSerializer(CardSerializer):
    scan = ScanSerializer()
    replay = serializers.IntegerField(allow_null=True, help_text="the latest replay of the same plan version")
    logbook_version = serializers.IntegerField()
    data_digest = serializers.CharField()
    computed_at = serializers.DateTimeField()


class CountingSerializer(serializers.Serializer):
    counting_job = serializers.IntegerField()


def being_counted(job: Job | None) -> Response | None:
    """The answer while a job counts; None where there is none."""
    return None if job is None else Response({"counting_job": job.pk}, status=202)


PART = [
    OpenApiParameter("streams", str, description="numbers joined by commas; all where left out"),
    OpenApiParameter("family", str),
    *query.SPAN,
]


def part_of(request) -> Selection:
    """Which part of a scan a request asks for."""

    streams = tuple(sorted(set(query.wholes(request, "streams", most=5_000))))
    return Selection(
        streams, request.GET.get("family", ""), query.moment(request, "from"), query.moment(request, "to")
    )


def scan_of(pk: int) -> Scan:
    scan = Scan.objects.select_related("plan_version__plan", "job").get(pk=pk)
    if scan.finished_at is None:
        raise Problem("the scan has not finished", remedy="wait for its job", code=409)
    return scan


def written(card: dict[str, Any]) -> dict[str, Any]:
    """A card as an answer has it, with its times as times."""

    def row(found: dict[str, Any]) -> dict[str, Any]:
        return {
            k.removesuffix("_ns"): moments.at(v) if k in ("start_ns", "end_ns") else v
            for k, v in found.items()
        }

    def span(figures: dict[str, Any]) -> dict[str, Any]:
        return {"start": moments.at(figures["span"]["from"]), "end": moments.at(figures["span"]["to"])}

    locked, figures = card["locked"], card["figures"]
    return card | {
        "span": span(figures),
        "figures": {name: found for name, found in figures.items() if name != "span"},
        "locked": locked and locked | {"span": span(locked)},
        **{name: [row(r) for r in card[name]] for name in ("missed", "false", "delays")},
    }


class ScorecardView(APIView):
    @extend_schema(
        operation_id="scorecard",
        parameters=PART,
        responses={200: ScorecardSerializer, 202: CountingSerializer},
    )
    def get(self, request, pk: int) -> Response:
        """Every figure of a scan, or of a part of it, against the present logbook; 202 while a job counts."""
        scan, part = scan_of(pk), part_of(request)
        if (answer := being_counted(counting.pending(scan, part, request.user))) is not None:
            return answer
        rows = counting.rows_of(scan, part)
        replayed = counting.replay_of(scan) if scan.mode == "fit" else None
        return Response(
            {
                "scan": reading.scan_list([scan])[0],
                **written(counting.card_of(scan, part)),
                "replay": replayed.pk if replayed else None,
                "logbook_version": logbook.version(),
                "data_digest": publishing.data_digest([r.samples_digest for r in rows]),
                "computed_at": moments.now(),
            }
        )


class FalseFindingsSerializer(serializers.Serializer):
    items = FindingSerializer(many=True)


class FalseView(APIView):
    @extend_schema(
        operation_id="scorecard_false",
        parameters=PART,
        responses={200: FalseFindingsSerializer, 202: CountingSerializer},
    )
    def get(self, request, pk: int) -> Response:
        """The findings that a scorecard counts as false, the strongest first, with their verdicts; 202 while a job counts."""
        scan, part = scan_of(pk), part_of(request)
        if (answer := being_counted(counting.pending(scan, part, request.user))) is not None:
            return answer
        card = counting.card_of(scan, part)
        return Response({"items": reading.finding_rows(counting.false_findings(scan, card))})


FILES = {
    "html": "text/html; charset=utf-8", "csv": "text/csv; charset=utf-8", "json": "application/json",
    "svg": "image/svg+xml",
}  # fmt: skip


def as_file(kind: str, card: dict[str, Any], title: str, about: list[str], name: str) -> HttpResponse:
    """A scorecard as a file of its own. Problem for a kind that is not known."""
    figures = card["figures"]
    if kind == "html":
        told = figures | {"span": {k: clock.format_time(v) for k, v in figures["span"].items()}}
        body = report.page({**card, "figures": told}, title, about)
    elif kind == "csv":
        body = report.table(figures)
    elif kind == "svg":
        body = report.drawn(figures["events"])
    elif kind == "json":
        body = publishing.as_json(figures | {"about": about})
    else:
        raise Problem(f"a scorecard has no form {kind}", remedy=f"take one of {', '.join(FILES)}", code=404)
    answer = HttpResponse(body, content_type=FILES[kind])
    answer["Content-Disposition"] = f'attachment; filename="{name}.{kind}"'
    return answer


class CardFileView(APIView):
    @extend_schema(
        operation_id="scorecard_file", parameters=PART, responses={(200, "text/html"): OpenApiTypes.STR}
    )
    def get(self, request, pk: int, kind: str) -> HttpResponse:
        """A scorecard as html, csv or json, or its precision as a picture (svg)."""
        scan, part = scan_of(pk), part_of(request)
        plan = f"{scan.plan_version.plan.name}, v{scan.plan_version.number}"
        words = "replayed as if live" if scan.mode == "replay" else "in-sample"
        about = [
            f"{plan}, {words}, on {len(counting.rows_of(scan, part))} streams",
            f"logbook version {logbook.version()}, code {scan.code_version}, scan {scan.pk}",
        ]
        return as_file(kind, counting.card_of(scan, part), f"Scorecard of {plan}", about, f"scorecard-{pk}")


class ConstraintSerializer(serializers.Serializer):
    """One constraint: least recall, most false a stream-week, most gap (by points), or both costs."""

    min_recall = query.FiniteField(min_value=0, max_value=1, required=False)
    max_false_per_week = query.FiniteField(min_value=0, required=False)
    max_gap = query.FiniteField(min_value=0, max_value=1, required=False)
    cost_miss = query.FiniteField(min_value=0, required=False)
    cost_false = query.FiniteField(min_value=0, required=False)
    by = serializers.ChoiceField(choices=("events", "points"), default="events")


class BestLevelSerializer(serializers.Serializer):
    level = serializers.FloatField()
    is_met = serializers.BooleanField()
    by = serializers.CharField()
    constraint = serializers.DictField(child=serializers.FloatField())
    apparent = plain_row()
    cross_validated = plain_row(allow_null=True)
    block_levels = serializers.ListField(child=serializers.FloatField())
    locked = plain_row(allow_null=True)
    feasible = serializers.ListField(
        child=serializers.FloatField(), help_text="levels that meet the constraint"
    )


class AdoptLevelSerializer(serializers.Serializer):
    level = query.FiniteField()


class LevelView(APIView):
    @extend_schema(
        operation_id="best_level", parameters=[ConstraintSerializer, *PART], responses=BestLevelSerializer
    )
    def get(self, request, pk: int) -> Response:
        """The best common level under a constraint: apparent, cross-validated, and on the locked span."""
        given = ConstraintSerializer(data=request.GET)
        given.is_valid(raise_exception=True)
        stated = dict(given.validated_data)
        by = stated.pop("by")
        for name, amount in stated.items():
            if not math.isfinite(amount):
                raise Problem(f"{amount} is no amount", place=name, remedy="give a number")
        try:
            constraint = Constraint(**stated)
        except ValueError as error:
            raise Problem(str(error), place="constraint", remedy="state one, and only one") from error
        return Response(counting.best_level(scan_of(pk), part_of(request), constraint, by))

    @extend_schema(operation_id="adopt_level", request=AdoptLevelSerializer, responses={202: ScanSerializer})
    def post(self, request, pk: int) -> Response:
        """Make a level part of the plan: a new version, run over the scan's streams."""
        given = AdoptLevelSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        scan = counting.adopt_level(scan_of(pk), given.validated_data["level"], request.user)
        return Response(reading.scan_list([scan])[0], status=202)


class AgainstFirstSerializer(serializers.Serializer):
    block_s = serializers.FloatField()
    notes = serializers.DictField(child=serializers.CharField())
    precision = PairedSerializer()
    recall = PairedSerializer()
    found_by_both = serializers.IntegerField()
    found_by_one_only = serializers.IntegerField()
    found_by_other_only = serializers.IntegerField()


class ComparedSerializer(serializers.Serializer):
    scan = serializers.IntegerField()
    plan = serializers.CharField()
    version = serializers.IntegerField()
    mode = serializers.CharField()
    findings = serializers.IntegerField()
    events = plain_row()
    points = plain_row(allow_null=True)
    delay = plain_row()
    false_per_week = plain_row()
    against = AgainstFirstSerializer(allow_null=True, help_text="this one less the first; null for the first")


class ComparisonSerializer(serializers.Serializer):
    streams = serializers.IntegerField()
    span_from = query.MomentField()
    span_to = query.MomentField()
    labels = serializers.IntegerField()
    scans = ComparedSerializer(many=True)


class ComparisonView(APIView):
    @extend_schema(
        operation_id="comparison",
        parameters=[OpenApiParameter("scans", str, required=True), *PART],
        responses={200: ComparisonSerializer, 202: CountingSerializer},
    )
    def get(self, request) -> Response:
        """Two to six scans over what all of them judged, each against the first with paired intervals; 202 while a job counts."""
        numbers = query.wholes(request, "scans", most=100)
        if len(numbers) > counting.MOST_SCANS:
            raise Problem(
                f"a comparison takes two to {counting.MOST_SCANS} different scans",
                place="scans",
                remedy="choose fewer",
            )
        found, part = [scan_of(pk) for pk in numbers], part_of(request)
        if (answer := being_counted(counting.comparison_pending(found, part, request.user))) is not None:
            return answer
        return Response(counting.comparison(found, part))


class TrendSerializer(serializers.Serializer):
    version = serializers.IntegerField()
    scan = serializers.IntegerField()
    author = serializers.CharField(allow_blank=True)
    created_at = serializers.DateTimeField()
    streams = serializers.IntegerField()
    precision = serializers.FloatField(allow_null=True)
    recall = serializers.FloatField(allow_null=True)
    months = CutSerializer(many=True)


class TrendView(APIView):
    @extend_schema(
        operation_id="plan_trend", parameters=paging.PARAMETERS, responses=paging.of(TrendSerializer)
    )
    def get(self, request, pk: int) -> Response:
        """Precision and recall by month for every version of a plan that was scanned, oldest version first."""
        return paging.parts(request, counting.trend(Plan.objects.get(pk=pk).pk), list)


class PublishSerializer(serializers.Serializer):
    title = serializers.CharField(max_length=200)


class JobStartedSerializer(serializers.Serializer):
    job = serializers.IntegerField()


class PublishView(APIView):
    @extend_schema(
        operation_id="publish",
        parameters=PART,
        request=PublishSerializer,
        responses={202: JobStartedSerializer},
    )
    def post(self, request, pk: int) -> Response:
        """Freeze a scorecard with a copy of its findings, labels and scores; the job's result is its number."""
        given = PublishSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        job = publishing.start(scan_of(pk), part_of(request), given.validated_data["title"], request.user)
        trail.note(request, "scorecard published", given.validated_data["title"])
        return Response({"job": job.pk}, status=202)


class PublishedHeadSerializer(serializers.Serializer):
    id = serializers.IntegerField()
    title = serializers.CharField()
    scan = serializers.IntegerField(allow_null=True)
    plan = serializers.CharField()
    version = serializers.IntegerField()
    mode = serializers.CharField()
    author = serializers.CharField()
    created_at = serializers.DateTimeField()
    logbook_version = serializers.IntegerField()
    code_version = serializers.CharField()
    precision = serializers.FloatField(allow_null=True)
    recall = serializers.FloatField(allow_null=True)
    streams = serializers.IntegerField()


class PublishedSerializer(PublishedHeadSerializer, CardSerializer):
    plan_text = serializers.CharField()
    data_digest = serializers.CharField()


class PublishedListView(APIView):
    @extend_schema(
        operation_id="published_list",
        parameters=paging.PARAMETERS,
        responses=paging.of(PublishedHeadSerializer),
    )
    def get(self, request) -> Response:
        """Published scorecards, newest first."""
        found = Published.objects.defer("findings", "labels", "plan_text")
        return paging.rows(request, found, lambda rows: [publishing.head_of(r) for r in rows])


class PublishedView(APIView):
    @extend_schema(operation_id="published", responses=PublishedSerializer)
    def get(self, request, pk: int) -> Response:
        """A scorecard as it was frozen."""
        row = Published.objects.get(pk=pk)
        digests = list(row.streams.order_by("pk").values_list("samples_digest", flat=True))
        return Response(
            {
                **publishing.head_of(row), **written(row.content), "plan_text": row.plan_text,
                "data_digest": publishing.data_digest(digests),
            }
        )  # fmt: skip


class SinceSerializer(serializers.Serializer):
    is_stale = serializers.BooleanField()
    entries_new = serializers.IntegerField()
    entries_gone = serializers.IntegerField()
    quiet_changed = serializers.BooleanField(help_text="planned work was noted or ended")
    streams_changed = serializers.IntegerField(help_text="whose samples are others in their latest scan")
    is_scan_gone = serializers.BooleanField()
    figures = serializers.DictField(
        child=serializers.JSONField(),
        allow_null=True,
        help_text="counted today, where the entries have changed",
    )


class SinceView(APIView):
    @extend_schema(operation_id="published_since", responses=SinceSerializer)
    def get(self, request, pk: int) -> Response:
        """What has changed since a scorecard was frozen, and its figures as they would be today."""
        return Response(publishing.staleness(Published.objects.select_related("scan").get(pk=pk)))


class PublishedFileView(APIView):
    @extend_schema(operation_id="published_file", responses={(200, "text/csv"): OpenApiTypes.STR})
    def get(self, request, pk: int, name: str) -> HttpResponse:
        """What was counted (findings.csv, labels.json, points.parquet, plan.yaml), or the card as card.html, .csv, .json, .svg."""
        row = Published.objects.get(pk=pk)
        copies = {
            "findings.csv": lambda: (publishing.findings_csv(row), "text/csv; charset=utf-8"),
            "labels.json": lambda: (publishing.labels_json(row), "application/json"),
            "points.parquet": lambda: (publishing.points_parquet(row), "application/vnd.apache.parquet"),
            "plan.yaml": lambda: (row.plan_text.encode(), "application/yaml"),
        }
        stem, _, kind = name.rpartition(".")
        if stem == "card" and kind in FILES:
            about = [
                f"{row.plan_name}, v{row.plan_number}, published by {row.author} on {row.created_at:%Y-%m-%d %H:%M} UTC",
                f"logbook version {row.logbook_version}, code {row.code_version}",
            ]
            return as_file(kind, row.content, row.title, about, f"published-{pk}")
        if name not in copies:
            raise Problem(
                f"a published scorecard has no {name}", remedy=f"take one of {', '.join(copies)}", code=404
            )
        body, content_type = copies[name]()
        answer = HttpResponse(body, content_type=content_type)
        answer["Content-Disposition"] = f'attachment; filename="published-{pk}-{name}"'
        return answer


class EffectStartSerializer(serializers.Serializer):
    entries = serializers.ListField(child=serializers.IntegerField(), min_length=1, max_length=5_000)
    as_known_days = serializers.BooleanField(default=False)


class EffectStartedSerializer(serializers.Serializer):
    before = serializers.IntegerField(help_text="the standing scan")
    after = serializers.IntegerField(help_text="the trial that was started")


class StreamEffectSerializer(serializers.Serializer):
    stream = serializers.IntegerField()
    name = serializers.CharField()
    moved = serializers.FloatField(allow_null=True, help_text="median move of the expectation, in sigmas")
    band = serializers.FloatField(allow_null=True, help_text="median width of the band, after over before")
    left_out_before = serializers.IntegerField(help_text="spans that training left out")
    left_out_after = serializers.IntegerField()
    kept = serializers.IntegerField(help_text="findings that both have")
    gone = SpanSerializer(many=True)
    new = SpanSerializer(many=True)


class EffectSerializer(serializers.Serializer):
    before = serializers.IntegerField()
    after = serializers.IntegerField()
    streams = StreamEffectSerializer(many=True)


class EffectView(APIView):
    @extend_schema(
        operation_id="logbook_effect",
        parameters=[OpenApiParameter(n, int, required=True) for n in ("before", "after")],
        responses={200: EffectSerializer, 202: CountingSerializer},
    )
    def get(self, request) -> Response:
        """Expectation, band and findings of two scans, stream by stream, what changed most first."""
        one, other = (query.required(request, name) for name in ("before", "after"))
        before, after = scan_of(one), scan_of(other)
        if (answer := being_counted(effects.pending(before, after, request.user))) is not None:
            return answer
        return Response(effects.effect(before, after))

    @extend_schema(
        operation_id="try_logbook", request=EffectStartSerializer, responses={202: EffectStartedSerializer}
    )
    def post(self, request) -> Response:
        """Run the standing plan once more with the logbook as it is now, or with these entries as known days."""
        given = EffectStartSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        data = given.validated_data
        entries = list(logbook.live().filter(pk__in=data["entries"]))
        before, after = effects.start(entries, as_known_days=data["as_known_days"], user=request.user)
        return Response({"before": before.pk, "after": after.pk}, status=202)
