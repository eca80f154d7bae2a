"""What the workbench asks for beside its charts: diagnoses, comparison, folds, points, explanations, who takes what."""

import json
from datetime import datetime
from typing import Any

import numpy as np
from django.http import HttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response
from rest_framework.views import APIView

from watchtide.engine.scan import examine, outcome
from watchtide.plan import load
from watchtide.server import query
from watchtide.server.problems import Problem
from watchtide.server.scans import charts, explain, forecasts, reading, services
from watchtide.server.scans.api import (
    SPAN,
    FindingSerializer,
    NumbersField,
    PairedSerializer,
    TimesField,
    span_of,
)
from watchtide.server.scans.models import Finding
from watchtide.server.streams.models import Stream
from watchtide.tables import results


class RemedySerializer(serializers.Serializer):
    name = serializers.CharField()
    words = serializers.CharField()
    remedy = serializers.DictField(child=serializers.JSONField())
    plan = serializers.DictField(child=serializers.JSONField(), allow_null=True)


class ErrorsSerializer(serializers.Serializer):
    samples = serializers.IntegerField()
    mae = serializers.FloatField(allow_null=True)
    rmse = serializers.FloatField(allow_null=True)
    mape = serializers.FloatField(allow_null=True)
    smape = serializers.FloatField(allow_null=True)
    median_ape = serializers.FloatField(allow_null=True)
    coverage = serializers.FloatField(allow_null=True)
    why = serializers.DictField(child=serializers.CharField())


class ExaminationSerializer(serializers.Serializer):
    baseline = serializers.DictField(child=serializers.JSONField())
    training = ErrorsSerializer()
    after = ErrorsSerializer(allow_null=True)
    promised_per_week = serializers.FloatField(allow_null=True)
    smallest = serializers.DictField(
        child=serializers.FloatField(allow_null=True),
        help_text="least deviation of a sample that is flagged, by side",
    )
    diagnoses = RemedySerializer(many=True)


class ExaminationView(APIView):
    @extend_schema(operation_id="examination", responses=ExaminationSerializer)
    def get(self, request, pk: int, stream: int) -> Response:
        """Is it any good? Error figures and diagnoses, each with the plan that its remedy makes."""
        row = services.scan_stream(pk, stream)
        plan = services.plan_of(row.scan.plan_version.text)
        told = examine.examine(services.rescan(row))
        for d in told["diagnoses"]:
            kind = told["baseline"]["kind"]
            d["plan"] = examine.remedied(plan, d["remedy"], kind).as_data() if d["remedy"] else None
        return Response(json.loads(json.dumps(told)))


class AgainstSerializer(serializers.Serializer):
    """Two scans of a stream over the span that both judged."""

    span_from = query.MomentField()
    span_to = query.MomentField()
    one = serializers.DictField(child=serializers.JSONField())
    other = serializers.DictField(child=serializers.JSONField())
    shared = serializers.IntegerField()
    one_only = serializers.IntegerField()
    other_only = serializers.IntegerField()
    precision = PairedSerializer()
    recall = PairedSerializer()


class AgainstView(APIView):
    @extend_schema(operation_id="against", responses=AgainstSerializer)
    def get(self, request, pk: int, stream: int, other: int) -> Response:
        """One scan of a stream beside another, with paired intervals on what differs."""
        return Response(charts.against(services.scan_stream(pk, stream), services.scan_stream(other, stream)))


class FoldSerializer(serializers.Serializer):
    """Cycles of one season over one another, newest last; clock : whose midnight begins a day, local or utc."""

    hours = serializers.FloatField()
    step_s = serializers.FloatField()
    clock = serializers.CharField()
    starts = TimesField()
    cycles = serializers.ListField(child=NumbersField())
    expected = NumbersField()


class FoldView(APIView):
    @extend_schema(
        operation_id="season_fold",
        responses=FoldSerializer,
        parameters=[OpenApiParameter("hours", float, required=True), OpenApiParameter("at", datetime)],
    )
    def get(self, request, pk: int, stream: int) -> Response:
        """All cycles of one season over one another."""
        hours = query.number(request, "hours", least=1e-6, most=1e6)
        if hours is None:
            raise Problem("hours is missing", place="hours", remedy="give for example 24")
        return Response(
            charts.season_folds(services.scan_stream(pk, stream), hours, query.moment(request, "at"))
        )


class FormSerializer(serializers.Serializer):
    """A decomposition in one form; why_not : why there is none, else empty; added : to values that may be 0."""

    time = TimesField(required=False)
    trend = NumbersField(required=False)
    seasons = serializers.ListField(child=NumbersField(), required=False)
    remainder = NumbersField(required=False)
    why_not = serializers.CharField(allow_blank=True)
    added = serializers.FloatField(allow_null=True)


class FormsSerializer(serializers.Serializer):
    """Both forms over one span; leftover : season left in the size of the remainder; held_out : losses by candidate."""

    additive = FormSerializer()
    multiplicative = FormSerializer()
    seasons = NumbersField()
    leftover = serializers.DictField(child=serializers.FloatField())
    taken = serializers.CharField()
    held_out = serializers.DictField(child=serializers.FloatField())


class FormsView(APIView):
    @extend_schema(operation_id="both_forms", responses=FormsSerializer, parameters=SPAN)
    def get(self, request, pk: int, stream: int) -> Response:
        """The stream with parts that add beside parts that multiply, and what speaks for either."""
        return Response(charts.both_forms(services.scan_stream(pk, stream), *span_of(request)))


class PointsView(APIView):
    @extend_schema(
        operation_id="points_csv", parameters=query.SPAN, responses={(200, "text/csv"): OpenApiTypes.STR}
    )
    def get(self, request, pk: int, stream: int) -> HttpResponse:
        """The points of one stream of a scan over a span, every sample, as CSV: the file that `watchtide scan` writes."""
        a, b, _ = span_of(request)
        row = services.scan_stream(pk, stream)
        points = outcome.points_of(services.rescan(row))
        inside = np.ones(len(points["time"]), np.bool_)
        if a is not None:
            inside &= points["time"] >= a
        if b is not None:
            inside &= points["time"] <= b
        table = results.points_table({row.stream.key: {k: v[inside] for k, v in points.items()}})
        answer = HttpResponse(
            results.table_bytes(table, "points.csv"), content_type="text/csv; charset=utf-8"
        )
        answer["Content-Disposition"] = f'attachment; filename="points-{row.stream_id}-scan-{pk}.csv"'
        return answer


class PushSerializer(serializers.Serializer):
    name = serializers.CharField()
    observed = serializers.FloatField()
    expected = serializers.FloatField()
    push = serializers.FloatField()
    share = serializers.FloatField(allow_null=True)
    missing = serializers.IntegerField()


class ContributorsSerializer(serializers.Serializer):
    """Parts of a whole, from its expected to its observed total; without rows, `why` says why."""

    attributes = serializers.ListField(child=serializers.CharField())
    attribute = serializers.CharField(allow_null=True)
    of = serializers.CharField(allow_blank=True)
    observed = serializers.FloatField(required=False)
    expected = serializers.FloatField(required=False)
    rows = PushSerializer(many=True)
    unaccounted = serializers.FloatField(required=False)
    missing = serializers.IntegerField(required=False)
    unit = serializers.CharField(required=False, allow_blank=True)
    why = serializers.CharField(allow_blank=True)


class BesideSerializer(serializers.Serializer):
    finding = FindingSerializer()
    when = serializers.ChoiceField(choices=("before", "with", "after"))
    lag_s = serializers.FloatField()
    relation = serializers.CharField(allow_blank=True)
    goes_with = serializers.FloatField(allow_null=True)
    goes_lag_s = serializers.FloatField(allow_null=True)


class AlikeSerializer(serializers.Serializer):
    finding = FindingSerializer()
    likeness = serializers.FloatField()


class KnownDaySerializer(serializers.Serializer):
    calendar = serializers.CharField()
    name = serializers.CharField()
    start = query.MomentField()
    end = query.MomentField()
    is_all_day = serializers.BooleanField()


class ExplanationSerializer(serializers.Serializer):
    finding = FindingSerializer()
    contributors = ContributorsSerializer()
    beside = BesideSerializer(many=True)
    alike = AlikeSerializer(many=True)
    days = KnownDaySerializer(many=True)


class TakeSerializer(serializers.Serializer):
    take = serializers.BooleanField(default=True)


class TakeView(APIView):
    @extend_schema(operation_id="take_finding", request=TakeSerializer, responses=FindingSerializer)
    def post(self, request, pk: int) -> Response:
        """Take a finding, so that others see who looks after it; or let go of it."""
        given = TakeSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        finding = Finding.objects.get(pk=pk)
        services.take(finding, request.user.get_username() if given.validated_data["take"] else "")
        return Response(reading.finding_rows([Finding.objects.get(pk=pk)])[0])


class ExplainView(APIView):
    @extend_schema(
        operation_id="explain", responses=ExplanationSerializer, parameters=[OpenApiParameter("by", str)]
    )
    def get(self, request, pk: int) -> Response:
        """What stands behind a finding: contributors, what else moved, earlier ones of its shape."""
        finding = Finding.objects.select_related("stream").get(pk=pk)
        return Response(explain.explain(finding, request.GET.get("by")))


class LimitSerializer(serializers.Serializer):
    """Past what: one of the two."""

    above = query.FiniteField(required=False)
    below = query.FiniteField(required=False)


class ForecastRequestSerializer(serializers.Serializer):
    streams = serializers.ListField(
        child=serializers.IntegerField(min_value=1), min_length=1, max_length=forecasts.MOST_STREAMS
    )
    plan = serializers.CharField(
        required=False,
        allow_blank=True,
        trim_whitespace=False,
        max_length=262_144,
        help_text="as text; without it the plan that stands for each stream",
    )
    steps = serializers.IntegerField(required=False, min_value=1, max_value=forecasts.MOST_STEPS)
    until = query.MomentField(required=False, help_text="instead of steps")
    skip_last = serializers.IntegerField(min_value=0, max_value=10_000_000, default=0)
    interval = query.FiniteField(min_value=0.01, max_value=0.9999, default=0.95)
    limit = LimitSerializer(required=False)

    def validate(self, data: dict[str, Any]) -> dict[str, Any]:
        if ("steps" in data) == ("until" in data):
            raise serializers.ValidationError({"steps": "give steps or until, and only one of them"})
        if "limit" in data and len(data["limit"]) != 1:
            raise serializers.ValidationError({"limit": "give above or below, and only one of them"})
        return data


class ReachedSerializer(serializers.Serializer):
    """When a limit is reached: by the expectation, by the edge of the interval, and in which share of drawn futures."""

    limit = serializers.FloatField()
    side = serializers.ChoiceField(choices=("above", "below"))
    expected_at = query.MomentField(allow_null=True)
    earliest_at = query.MomentField(allow_null=True)
    reached_with = serializers.DictField(
        child=query.MomentField(allow_null=True), help_text="by chance: 0.1, 0.5, 0.9"
    )
    chance_by_end = serializers.FloatField()
    by = NumbersField(help_text="share of futures that have reached it by each time")


class ForecastSerializer(serializers.Serializer):
    stream = serializers.IntegerField()
    key = serializers.CharField()
    metric = serializers.CharField()
    title = serializers.CharField()
    unit = serializers.CharField(allow_blank=True)
    zone = serializers.CharField()
    time = TimesField()
    expected = NumbersField()
    lower = NumbersField()
    upper = NumbersField()
    limit = ReachedSerializer(allow_null=True)
    notes = serializers.ListField(child=serializers.CharField())


class ForecastsSerializer(serializers.Serializer):
    items = ForecastSerializer(many=True)


class ForecastView(APIView):
    # It changes nothing, though what it takes needs a body.
    is_personal = True
    token_scope = "read"

    @extend_schema(operation_id="forecast", request=ForecastRequestSerializer, responses=ForecastsSerializer)
    def post(self, request) -> Response:
        """What comes next of some streams, each with its interval, and when a limit is reached; nothing is stored."""
        given = ForecastRequestSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        data = given.validated_data
        found = Stream.objects.in_bulk(data["streams"])
        missing = [str(pk) for pk in data["streams"] if pk not in found]
        if missing:
            raise Problem(
                f"no stream {', '.join(missing)}", place="streams", remedy="see /api/v1/catalogue", code=404
            )
        plan = load(data["plan"]) if data.get("plan", "").strip() else None
        limit = next(iter(data["limit"].items())) if "limit" in data else None
        wanted = forecasts.Wanted(
            data.get("steps"), data.get("until"), data["skip_last"], data["interval"], limit
        )
        ordered = [found[pk] for pk in dict.fromkeys(data["streams"])]
        return Response({"items": forecasts.forecast(ordered, plan, wanted)})
