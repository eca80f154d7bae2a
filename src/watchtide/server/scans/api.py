"""Scans over REST: the tide table, the workbench's data, review, and scorecards."""

import json
from collections.abc import Sequence
from typing import Any

import numpy as np
from django.http import HttpResponse
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response
from rest_framework.views import APIView

from watchtide.core.judge.watches import ODD
from watchtide.core.series import keys
from watchtide.core.series.coarser import LEAST_NS
from watchtide.engine.scan import reduce
from watchtide.plan import dump, load
from watchtide.plan.text import from_data
from watchtide.server import moments, paging, query
from watchtide.server.logbook import services as logbook
from watchtide.server.logbook.api import EntrySerializer
from watchtide.server.logbook.models import JUDGEMENT_CHOICES
from watchtide.server.people import trail
from watchtide.server.people.models import ALL_COLUMNS, COLUMNS, Person
from watchtide.server.problems import Problem
from watchtide.server.scans import arranged, charts, reading, services, tide
from watchtide.server.scans.models import Finding, Scan, Standing
from watchtide.server.streams import store
from watchtide.server.streams.models import Stream

MOST_POINTS = 8_000


class NumbersField(serializers.ListField):
    """A list of numbers with null for what is missing."""

    child = serializers.FloatField(allow_null=True)

    def to_representation(self, data: Any) -> Any:
        return data


class TimesField(NumbersField):
    """Times in ISO 8601 in UTC; none is missing."""

    child = query.MomentField()


class PairedSerializer(serializers.Serializer):
    """One figure of two scans, and the paired interval of its difference."""

    one = serializers.FloatField(allow_null=True)
    other = serializers.FloatField(allow_null=True)
    difference = serializers.FloatField(allow_null=True)
    difference_ci = NumbersField(allow_null=True)
    words = serializers.CharField()


class FindingSerializer(serializers.Serializer):
    id = serializers.IntegerField()
    stream = serializers.IntegerField()
    metric = serializers.CharField()
    title = serializers.CharField()
    unit = serializers.CharField()
    zone = serializers.CharField()
    scan = serializers.IntegerField()
    start = query.MomentField()
    end = query.MomentField()
    kind = serializers.CharField()
    direction = serializers.CharField()
    score = serializers.FloatField(allow_null=True)
    peak = query.MomentField(allow_null=True)
    peak_value = serializers.FloatField(allow_null=True)
    expected = serializers.FloatField(allow_null=True)
    points = serializers.IntegerField()
    size = serializers.FloatField(allow_null=True)
    confidence = serializers.FloatField(allow_null=True)
    raised = query.MomentField(allow_null=True, help_text="when it was known; replays only")
    taken_by = serializers.CharField(allow_blank=True)
    quiet = serializers.BooleanField(help_text="in planned work")
    verdict = serializers.CharField(allow_null=True)
    entry = serializers.IntegerField(allow_null=True)


class MarkSerializer(serializers.Serializer):
    time = query.MomentField()
    side = serializers.IntegerField(help_text="1 up, -1 down")


class TideRowSerializer(serializers.Serializer):
    id = serializers.IntegerField()
    metric = serializers.CharField()
    title = serializers.CharField()
    unit = serializers.CharField()
    zone = serializers.CharField()
    bad_side = serializers.CharField()
    step_s = serializers.FloatField()
    cadence = serializers.CharField(allow_blank=True, help_text="of a calendar, empty for a fixed one")
    scan = serializers.IntegerField(allow_null=True)
    last_value = serializers.FloatField(allow_null=True)
    last = query.MomentField(allow_null=True)
    state = serializers.CharField()
    open = serializers.IntegerField()
    strongest = serializers.FloatField()
    newest = query.MomentField(allow_null=True)
    owner = serializers.CharField(allow_blank=True)
    attributes = serializers.CharField(allow_blank=True)
    judged_until = query.MomentField(allow_null=True)
    ribbon = serializers.CharField()
    ribbon_from = query.MomentField(allow_null=True)
    ribbon_to = query.MomentField(allow_null=True)
    marks = MarkSerializer(many=True, help_text="shifts")


class TideFamilySerializer(serializers.Serializer):
    metric = serializers.CharField()
    unit = serializers.CharField(allow_blank=True)
    streams = serializers.IntegerField(help_text="how many rows it has by the words of the filter")
    adrift = serializers.IntegerField()
    digits = serializers.IntegerField(
        allow_null=True, help_text="decimal places that tell the last values of these rows apart"
    )


class StrongSerializer(FindingSerializer):
    bad_side = serializers.CharField(help_text="of its stream: above, below or both")


class TideSerializer(serializers.Serializer):
    rows = TideRowSerializer(many=True, help_text="in the order of the metrics; none with rows=false")
    families = TideFamilySerializer(many=True, help_text="in the order and by the words of the query")
    streams = serializers.IntegerField(help_text="rows there are, whatever the words")
    span_from = query.MomentField(allow_null=True)
    span_to = query.MomentField(allow_null=True)
    zone = serializers.CharField()
    open = serializers.IntegerField()
    new = serializers.IntegerField()
    quiet = serializers.IntegerField(help_text="findings in planned work, not counted as open")
    held_back = serializers.IntegerField(help_text="open findings that the fleet's rule hides")
    fleet_promise = serializers.CharField(allow_blank=True)
    columns = serializers.ListField(child=serializers.CharField())
    last_looked = serializers.DateTimeField(allow_null=True)
    strongest = StrongSerializer(many=True)


class WaySerializer(serializers.Serializer):
    """In which order, and by which words, rows of the tide table are wanted."""

    sort = serializers.ChoiceField(
        choices=[(s, s) for s in arranged.SORTS],
        default="strongest",
        help_text="families by their first row, rows within them by this",
    )
    filter = serializers.CharField(
        default="",
        allow_blank=True,
        max_length=200,
        help_text="only streams with all of these words in their name, state, attributes or owner",
    )
    fleet = query.FiniteField(
        min_value=0.001,
        max_value=0.9,
        required=False,
        help_text="share of false ones to allow across all streams, day by day",
    )


class RowsWaySerializer(WaySerializer):
    skip = serializers.IntegerField(
        min_value=0, default=0, help_text="how many rows of this order come before the window"
    )
    count = serializers.IntegerField(min_value=1, max_value=tide.MOST_RIBBONS, default=100)
    by_family = serializers.BooleanField(
        default=True, help_text="family by family, as the head lists them; else all in one order"
    )


class TideWindowSerializer(serializers.Serializer):
    rows = TideRowSerializer(many=True)
    total = serializers.IntegerField(help_text="rows with these words")


class CapsSerializer(WaySerializer):
    most = serializers.IntegerField(min_value=1, max_value=50, default=8)
    family = serializers.IntegerField(min_value=1, max_value=50, default=3)
    stream = serializers.IntegerField(min_value=1, max_value=50, default=1)
    begin = query.MomentField(required=False)
    end = query.MomentField(required=False)
    rows = serializers.BooleanField(
        default=True,
        help_text="whether the answer has the rows; without them /api/v1/tide/rows has a window of them",
    )
    ribbons = serializers.BooleanField(
        default=True, help_text="whether rows have their ribbons; without them the answer is half as long"
    )


class RibbonsView(APIView):
    @extend_schema(
        operation_id="tide_ribbons",
        parameters=[OpenApiParameter("streams", str, required=True, description="numbers joined by commas")],
        responses={(200, "application/octet-stream"): bytes},
    )
    def get(self, request) -> HttpResponse:
        """The ribbons of some streams: of each its number (4 bytes) and length (2 bytes), lowest byte first, then as many signed bytes, tenths of a
        sigma in equal parts of the time from ribbon_from to ribbon_to; -128 where nothing is judged. Streams without one are left out."""
        wanted = query.wholes(request, "streams", most=tide.MOST_RIBBONS)
        return HttpResponse(tide.ribbons(wanted), content_type="application/octet-stream")


class TideView(APIView):
    @extend_schema(operation_id="tide_table", responses=TideSerializer, parameters=[CapsSerializer])
    def get(self, request) -> Response:
        """One row a stream by its standing scan, and the strongest open findings of the span."""
        caps = CapsSerializer(data=request.GET)
        caps.is_valid(raise_exception=True)
        person = Person.objects.filter(user=request.user).first()
        wanted = caps.validated_data
        sort, text, has_rows = wanted.pop("sort"), wanted.pop("filter"), wanted.pop("rows")
        table = tide.shared(wanted.pop("fleet", None), has_ribbons=wanted.pop("ribbons") and has_rows)
        last_looked = person.last_looked if person else None
        own = {
            "families": table.arranged(sort, text).families,
            "strongest": [
                f | {"bad_side": table.bad_side(f["stream"])}
                for f in tide.strongest(table.findings, tide.Strongest(**wanted))
            ],
            "new": table.new_since(last_looked),
            "last_looked": last_looked,
            "columns": person.columns if person else list(COLUMNS),
        }
        rows = table.all_rows if has_rows else []
        return Response({"rows": rows, "streams": len(table.rows), **table.facts, **own})


class TideRowsView(APIView):
    @extend_schema(
        operation_id="tide_rows",
        responses=TideWindowSerializer,
        parameters=[
            RowsWaySerializer,
            OpenApiParameter("streams", str, description="of these streams only: numbers joined by commas"),
        ],
    )
    def get(self, request) -> Response:
        """A window of the tide table's rows, without ribbons, in the order of its families."""
        wanted = RowsWaySerializer(data=request.GET)
        wanted.is_valid(raise_exception=True)
        way = wanted.validated_data
        table = tide.shared(way.get("fleet"), has_ribbons=False)
        rows: Sequence[dict[str, Any]]
        if request.GET.get("streams"):
            numbers = query.wholes(request, "streams", most=tide.MOST_RIBBONS)
            rows = [table.by_number[n] for n in numbers if n in table.by_number]
        else:
            order = table.arranged(way["sort"], way["filter"], by_family=way["by_family"])
            rows = [table.rows[i] for i in order.places]
        return Response({"rows": rows[way["skip"] :][: way["count"]], "total": len(rows)})


class ColumnsSerializer(serializers.Serializer):
    columns = serializers.ListField(
        child=serializers.ChoiceField(choices=[(c, c) for c in ALL_COLUMNS]), max_length=len(ALL_COLUMNS)
    )


class ColumnsView(APIView):
    is_personal = True

    @extend_schema(operation_id="choose_columns", request=ColumnsSerializer, responses={204: None})
    def put(self, request) -> Response:
        """Keep which columns this person's tide table has, in which order."""
        given = ColumnsSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        columns = list(dict.fromkeys(given.validated_data["columns"]))
        Person.objects.update_or_create(user=request.user, defaults={"columns": columns})
        return Response(status=204)


class LookedView(APIView):
    is_personal = True

    @extend_schema(operation_id="looked", request=None, responses={204: None})
    def post(self, request) -> Response:
        """Note that this person has seen the tide table as it is now."""
        services.looked(request.user)
        return Response(status=204)


class ScanSerializer(serializers.Serializer):
    id = serializers.IntegerField()
    plan = serializers.CharField()
    plan_id = serializers.IntegerField()
    version = serializers.IntegerField()
    plan_data = serializers.DictField(child=serializers.JSONField())
    plan_text = serializers.CharField()
    is_standing = serializers.BooleanField()
    mode = serializers.CharField()
    streams = serializers.IntegerField()
    metrics = serializers.ListField(child=serializers.CharField())
    findings = serializers.IntegerField()
    precision = serializers.FloatField(allow_null=True)
    recall = serializers.FloatField(allow_null=True)
    job = serializers.IntegerField(allow_null=True)
    state = serializers.CharField()
    span_from = query.MomentField(allow_null=True)
    span_to = query.MomentField(allow_null=True)
    created_by = serializers.CharField()
    created_at = serializers.DateTimeField()
    finished_at = serializers.DateTimeField(allow_null=True)
    code_version = serializers.CharField()
    logbook_version = serializers.IntegerField()
    logbook_now = serializers.IntegerField()


class TrialSerializer(serializers.Serializer):
    plan = serializers.DictField(child=serializers.JSONField(), required=False)
    text = serializers.CharField(required=False, trim_whitespace=False)
    streams = serializers.ListField(child=serializers.IntegerField(), max_length=20_000)
    name = serializers.CharField(max_length=120, required=False)
    mode = serializers.ChoiceField(choices=("fit", "replay"), default="fit")


class AdoptSerializer(serializers.Serializer):
    streams = serializers.ListField(
        child=serializers.IntegerField(),
        max_length=20_000,
        required=False,
        help_text="of the scan's; all where left out",
    )


class ScansView(APIView):
    @extend_schema(
        operation_id="scans",
        responses=paging.of(ScanSerializer),
        parameters=[*paging.PARAMETERS, OpenApiParameter("stream", int)],
    )
    def get(self, request) -> Response:
        """The latest scans, of one stream where it is named."""
        found = Scan.objects.select_related("plan_version__plan", "job")
        if (stream := query.whole(request, "stream")) is not None:
            found = found.filter(streams__stream_id=stream)
        return paging.rows(request, found, reading.scan_list, usual=100)

    @extend_schema(operation_id="start_trial", request=TrialSerializer, responses={202: ScanSerializer})
    def post(self, request) -> Response:
        """Run a plan over some streams as a trial: in-sample, or replayed as if live."""
        given = TrialSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        data = given.validated_data
        plan = load(data["text"]) if "text" in data else from_data(data.get("plan") or {})
        known = Stream.objects.filter(pk__in=data["streams"]).count()
        if known != len(set(data["streams"])):
            raise Problem(
                "one of the streams is not there", place="streams", remedy="reload the page", code=404
            )
        version = services.plan_version(
            data.get("name") or services.STANDARD, plan, request.user.get_username()
        )
        scan = services.start(version, data["streams"], user=request.user, mode=data["mode"])
        return Response(reading.scan_list([scan])[0], status=202)


class ScanView(APIView):
    @extend_schema(operation_id="scan", responses=ScanSerializer)
    def get(self, request, pk: int) -> Response:
        return Response(
            reading.scan_list([Scan.objects.select_related("plan_version__plan", "job").get(pk=pk)])[0]
        )


class ScanFindingsView(APIView):
    @extend_schema(
        operation_id="scan_findings",
        responses=paging.of(FindingSerializer),
        parameters=[*paging.PARAMETERS, OpenApiParameter("stream", int)],
    )
    def get(self, request, pk: int) -> Response:
        """The findings of a scan by start, of one stream where it is named, with their verdicts."""
        found = Scan.objects.get(pk=pk).findings.all()
        if (stream := query.whole(request, "stream")) is not None:
            found = found.filter(stream_id=stream)
        return paging.rows(request, found, reading.finding_rows, by="start_ns")


class AdoptView(APIView):
    @extend_schema(operation_id="adopt_scan", request=AdoptSerializer, responses={204: None})
    def post(self, request, pk: int) -> Response:
        """Make a trial's plan the standing plan of some of its streams."""
        given = AdoptSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        services.make_standing(Scan.objects.get(pk=pk), given.validated_data.get("streams"))
        trail.note(request, "plan made standing", f"scan {pk}")
        return Response(status=204)


class StreamScanSerializer(serializers.Serializer):
    """What a workbench shows beside the chart."""

    id = serializers.IntegerField()
    metric = serializers.CharField()
    title = serializers.CharField()
    key = serializers.CharField()
    unit = serializers.CharField()
    zone = serializers.CharField()
    bad_side = serializers.CharField()
    samples = serializers.IntegerField()
    is_additive = serializers.BooleanField(help_text="whether its values add up over longer periods")
    step_s = serializers.FloatField()
    first = query.MomentField(allow_null=True)
    last = query.MomentField(allow_null=True)
    standing_scan = serializers.IntegerField(allow_null=True)
    family = serializers.ListField(child=serializers.IntegerField())


class StreamView(APIView):
    @extend_schema(operation_id="stream", responses=StreamScanSerializer)
    def get(self, request, pk: int) -> Response:
        stream = Stream.objects.get(pk=pk)
        standing = Standing.objects.filter(stream=stream).first()
        family = list(Stream.objects.filter(metric=stream.metric).order_by("pk").values_list("pk", flat=True))
        return Response(
            {
                "id": stream.pk,
                "metric": stream.metric,
                "title": stream.title,
                "key": stream.key,
                "unit": stream.unit,
                "zone": stream.zone,
                "bad_side": stream.bad_side,
                "samples": stream.samples,
                "is_additive": stream.is_additive,
                "step_s": stream.step_ns / 1e9,
                "first": moments.at(stream.first_ns),
                "last": moments.at(stream.last_ns),
                "standing_scan": standing.scan_id if standing else None,
                "family": family,
            }
        )


class EdgesSerializer(serializers.Serializer):
    """Values at which each of three levels is reached; between them the quadratic in the level through all three holds."""

    levels = serializers.ListField(child=serializers.FloatField(), help_text="rising, in sigmas")
    upper = serializers.ListField(child=NumbersField())
    lower = serializers.ListField(child=NumbersField())


class WindowSerializer(serializers.Serializer):
    """Samples of a span, reduced with every extreme kept. Arrays of one length."""

    total = serializers.IntegerField()
    reduced = serializers.BooleanField()
    time = TimesField()
    value = NumbersField()
    expected = NumbersField(required=False)
    spread = NumbersField(required=False)
    edges = EdgesSerializer(
        required=False,
        help_text="of counts: values at which three levels are reached; else expected ± level × spread",
    )
    score = NumbersField(required=False)
    trend = NumbersField(required=False)
    seasons = serializers.ListField(child=NumbersField(), required=False)
    season_hours = serializers.ListField(child=serializers.FloatField(), required=False)
    train_until = query.MomentField(allow_null=True, required=False)
    level_above = serializers.FloatField(allow_null=True, required=False)
    level_below = serializers.FloatField(allow_null=True, required=False)
    level_note = serializers.CharField(required=False)
    notes = serializers.ListField(child=serializers.CharField(), required=False)
    resolved = serializers.DictField(child=serializers.JSONField(), required=False)
    findings = FindingSerializer(many=True, required=False)
    entries = EntrySerializer(many=True, required=False)
    odd = serializers.ListField(
        child=serializers.IntegerField(), required=False, help_text="places whose score has no side"
    )
    histogram = serializers.DictField(
        child=serializers.ListField(child=serializers.IntegerField()), required=False
    )
    share = NumbersField(
        required=False, help_text="by longer periods: of the time of each, how much was seen, 0 to 1"
    )


SPAN = [*query.SPAN, OpenApiParameter("points", int)]


def span_of(request) -> tuple[int | None, int | None, int]:
    points = query.whole(request, "points", 4_000, least=100, most=MOST_POINTS)
    return query.moment(request, "from"), query.moment(request, "to"), points or 4_000


BY = OpenApiParameter(
    "by",
    enum=list(LEAST_NS),
    description="put together by a longer period in the stream's time zone: sums of what adds up, else means",
)


class SamplesView(APIView):
    @extend_schema(operation_id="samples", responses=WindowSerializer, parameters=[*SPAN, BY])
    def get(self, request, pk: int) -> Response:
        """A stream's samples as stored, without a scan."""
        a, b, points = span_of(request)
        if by := query.choice(request, "by", LEAST_NS):
            return Response(charts.by_period(Stream.objects.get(pk=pk), by, (a, b), points))
        times, values = store.read(pk, a, b)
        at = reduce.indices(values, None, np.empty(0, np.int64), points)
        return Response(
            {
                "total": len(times),
                "reduced": len(at) < len(times),
                "time": moments.each(times[at]),
                "value": charts.column(values[at]),
            }
        )


class WindowView(APIView):
    @extend_schema(
        operation_id="window",
        responses=WindowSerializer,
        parameters=[*SPAN, OpenApiParameter("components", bool), BY],
    )
    def get(self, request, pk: int, stream: int) -> Response:
        """Samples, expectation and score of one stream of a scan over a span."""
        a, b, points = span_of(request)
        row = services.scan_stream(pk, stream)
        scanned = services.rescan(row)
        base = scanned.base
        times = base.series.times
        low = int(np.searchsorted(times, a)) if a is not None else 0
        high = int(np.searchsorted(times, b, side="right")) if b is not None else len(times)
        span = (int(times[low]), int(times[high - 1])) if high > low else (0, -1)
        findings = [
            f for f in Finding.objects.filter(scan_id=pk, stream_id=stream).order_by("start_ns")
            if f.start_ns <= span[1] and f.end_ns >= span[0]
        ]  # fmt: skip
        entries = [
            e for e in logbook.live().filter(start_ns__lte=span[1], end_ns__gte=span[0]).order_by("start_ns")
            if keys.covers(e.scope, base.key)
        ]  # fmt: skip
        body = {
            "train_until": moments.at(times[base.train_stop - 1])
            if 0 < base.train_stop < len(times)
            else None,
            "level_above": row.level_above,
            "level_below": row.level_below,
            "level_note": scanned.level.note,
            "notes": list(base.notes),
            "resolved": json.loads(json.dumps(scanned.resolved)),
            "findings": reading.finding_rows(findings),
            "entries": EntrySerializer(entries, many=True).data,
            "histogram": charts.histogram(scanned, entries),
            "season_hours": [p * base.series.step_ns / 3.6e12 for p, _ in sorted(base.found_seasons)],
        }
        if by := query.choice(request, "by", LEAST_NS):
            return Response(body | charts.scanned_by_period(row, scanned, by, (a, b), points))
        peaks = np.searchsorted(times, [f.peak_ns for f in findings if f.peak_ns is not None]) - low
        keep = peaks[(peaks >= 0) & (peaks < high - low)].astype(np.int64)
        at = reduce.indices(base.series.values[low:high], scanned.z[low:high], keep, points) + low
        places = charts.places_of(base.spread[at])
        body |= {
            "total": high - low,
            "reduced": len(at) < high - low,
            "time": moments.each(times[at]),
            "value": charts.column(base.series.values[at]),
            "expected": charts.column(base.expected[at], places),
            "spread": charts.column(base.spread[at], places),
            # In full: rounded it might lie on the other side of a level.
            "score": charts.column(scanned.z[at]),
            "odd": np.flatnonzero(base.evidence.side[at] == ODD).tolist(),
        }
        if edges := charts.edges(base, at, [row.level_above, row.level_below], places):
            body["edges"] = edges
        if request.GET.get("components") in ("1", "true"):
            body["trend"] = charts.column(base.trend[at])
            body["seasons"] = [charts.column(s[at]) for s in base.seasons]
        return Response(body)


class CurveSerializer(serializers.Serializer):
    """Counts and figures at 201 levels; null where a figure has no denominator."""

    levels = NumbersField()
    findings = NumbersField()
    tp_findings = NumbersField()
    fp_findings = NumbersField()
    unjudged = NumbersField()
    unsure = NumbersField()
    tp_labels = NumbersField()
    fn_labels = NumbersField()
    precision = NumbersField()
    precision_low = NumbersField()
    precision_high = NumbersField()
    recall = NumbersField()
    recall_low = NumbersField()
    recall_high = NumbersField()
    f1 = NumbersField()
    delay_s = NumbersField()
    false_per_week = NumbersField()
    flagged_share = NumbersField()
    point_tp = NumbersField()
    point_fp = NumbersField()
    point_fn = NumbersField()
    point_tn = NumbersField()
    recall_of = serializers.CharField()
    stream_weeks = serializers.FloatField()


class PromisedSerializer(serializers.Serializer):
    """What the stream's own tails promise at each of the 201 levels; null where there is too little history."""

    odds = NumbersField(allow_null=True)
    per_week = NumbersField(allow_null=True)


class StreamCurveSerializer(serializers.Serializer):
    curve = CurveSerializer()
    in_force = serializers.DictField(child=serializers.JSONField())
    promised = PromisedSerializer()
    logbook_version = serializers.IntegerField()


class CurveView(APIView):
    @extend_schema(operation_id="stream_curve", responses=StreamCurveSerializer)
    def get(self, request, pk: int, stream: int) -> Response:
        """The operating curve of one stream of a scan, and its figures at the level in force."""
        row = services.scan_stream(pk, stream)
        return Response(charts.stream_curve(row))


class BeforeSerializer(serializers.Serializer):
    """The same stretch a season or more before: what was seen, expected, and the edges of its band."""

    start = query.MomentField()
    values = NumbersField()
    expected = NumbersField()
    lower = NumbersField()
    upper = NumbersField()


class FindingContextSerializer(serializers.Serializer):
    finding = FindingSerializer()
    beside = FindingSerializer(many=True)
    before = BeforeSerializer(many=True)
    entries = EntrySerializer(many=True)
    causes = serializers.ListField(child=serializers.CharField())


class ReviewSerializer(serializers.Serializer):
    queue = FindingSerializer(many=True)
    judged = serializers.IntegerField()
    total = serializers.IntegerField()
    precision = serializers.FloatField(allow_null=True)
    precision_ci = serializers.ListField(child=serializers.FloatField(), allow_null=True)
    precision_counts = serializers.ListField(child=serializers.IntegerField())


class ReviewView(APIView):
    @extend_schema(
        operation_id="review", responses=ReviewSerializer, parameters=[OpenApiParameter("stream", int)]
    )
    def get(self, request) -> Response:
        """Open findings of the standing scans, strongest first, and how precision stands."""
        return Response(reading.review(query.whole(request, "stream")))


class FindingView(APIView):
    @extend_schema(operation_id="finding", responses=FindingContextSerializer)
    def get(self, request, pk: int) -> Response:
        finding = Finding.objects.select_related("stream", "scan__plan_version").get(pk=pk)
        context = reading.finding_context(finding)
        entries = EntrySerializer(context["entries"], many=True).data
        return Response({**context, "entries": entries})


class VerdictSerializer(serializers.Serializer):
    verdict = serializers.ChoiceField(choices=JUDGEMENT_CHOICES)
    cause = serializers.CharField(allow_blank=True, default="", max_length=500)
    note = serializers.CharField(allow_blank=True, default="", max_length=10_000)
    start = query.MomentField(required=False)
    end = query.MomentField(required=False)


class VerdictView(APIView):
    @extend_schema(operation_id="give_verdict", request=VerdictSerializer, responses={201: EntrySerializer})
    def post(self, request, pk: int) -> Response:
        """Write the verdict on a finding into the logbook, over its span or a corrected one."""
        given = VerdictSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        data = given.validated_data
        finding = Finding.objects.select_related("stream").get(pk=pk)
        entry = logbook.add(
            services.entry_of(finding, data["verdict"], data["cause"], data["note"])
            | {f"{end}_ns": data[end] for end in ("start", "end") if end in data},
            request.user.get_username(),
        )
        return Response(EntrySerializer(entry).data, status=201)


class PlanCheckSerializer(serializers.Serializer):
    text = serializers.CharField(trim_whitespace=False, max_length=262_144)


class PlanDataSerializer(serializers.Serializer):
    plan = serializers.DictField(child=serializers.JSONField())
    text = serializers.CharField()


class PlanCheckView(APIView):
    @extend_schema(operation_id="check_plan", request=PlanCheckSerializer, responses=PlanDataSerializer)
    def post(self, request) -> Response:
        """Read a plan's text; mistakes come back by line."""
        given = PlanCheckSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        plan = load(given.validated_data["text"])
        return Response({"plan": plan.as_data(), "text": dump(plan)})
