"""A day's or week's look over REST, and looks that are sent each morning."""

from typing import Any

from django.db import transaction
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response
from rest_framework.views import APIView

from watchtide.server import moments, paging, query
from watchtide.server.lookouts.models import Route
from watchtide.server.looks import services
from watchtide.server.looks.models import PERIODS, Morning
from watchtide.server.looks.services import MOST_BEFORE, Wanted
from watchtide.server.people import trail
from watchtide.server.problems import Problem
from watchtide.server.streams.models import Stream
from watchtide.tables import clock

BY = [name for name, _ in PERIODS]


class MovedPartSerializer(serializers.Serializer):
    name = serializers.CharField()
    value = serializers.FloatField()
    usual = serializers.FloatField()
    change = serializers.FloatField()


class SetBesideSerializer(serializers.Serializer):
    start = query.MomentField()
    value = serializers.FloatField(allow_null=True)
    left_out = serializers.BooleanField(help_text="far from the rest, so not counted")


class PeriodsSerializer(serializers.Serializer):
    """Past periods as columns, each with its own usual and limits by those before it."""

    start = serializers.ListField(child=query.MomentField())
    value = serializers.ListField(child=serializers.FloatField(allow_null=True))
    usual = serializers.ListField(child=serializers.FloatField(allow_null=True))
    lower = serializers.ListField(child=serializers.FloatField(allow_null=True))
    upper = serializers.ListField(child=serializers.FloatField(allow_null=True))
    outside = serializers.ListField(child=serializers.CharField(allow_blank=True))


class PeriodLookSerializer(serializers.Serializer):
    """A day or week against the same one of the n before it."""

    by = serializers.ChoiceField(choices=BY)
    n = serializers.IntegerField()
    stream = serializers.IntegerField(allow_null=True)
    metric = serializers.CharField()
    title = serializers.CharField()
    streams = serializers.IntegerField()
    unit = serializers.CharField(allow_blank=True)
    zone = serializers.CharField()
    adds_up = serializers.BooleanField(help_text="whether figures are sums, else means")
    start = query.MomentField()
    end = query.MomentField()
    value = serializers.FloatField(allow_null=True)
    usual = serializers.FloatField(allow_null=True)
    lower = serializers.FloatField(allow_null=True, help_text="null under three to compare with")
    upper = serializers.FloatField(allow_null=True)
    seen = serializers.FloatField(help_text="share of the period that was seen")
    outside = serializers.CharField(allow_blank=True, help_text="above or below its limits, empty within")
    is_bad = serializers.BooleanField()
    beside = SetBesideSerializer(many=True)
    pushed_by = serializers.CharField(allow_blank=True, help_text="the attribute of its parts")
    up = MovedPartSerializer(many=True)
    down = MovedPartSerializer(many=True)
    periods = PeriodsSerializer()


def _wanted(request: Any) -> Wanted:
    stream = query.whole(request, "stream", least=1)
    metric = request.query_params.get("metric", "")
    if (stream is None) == (not metric):
        raise Problem("state a stream or a metric", place="stream", remedy="add stream=ID or metric=NAME")
    attributes = {}
    for pair in request.query_params.getlist("attribute"):
        name, equals, value = pair.partition("=")
        if not equals or not name:
            raise Problem(
                f"{pair[:60]!r} is no attribute", place="attribute", remedy="write attribute=place=Northquay"
            )
        attributes[name] = value
    by = query.choice(request, "by", BY) or "day"
    n = query.whole(request, "n", least=1, most=MOST_BEFORE) or 8
    day = request.query_params.get("day", "")
    return Wanted(by=by, n=n, stream=stream, metric=metric, attributes=attributes, day=day)  # type: ignore[arg-type]


class LookView(APIView):
    @extend_schema(
        operation_id="look",
        parameters=[
            OpenApiParameter("stream", int, description="of one stream, a total too"),
            OpenApiParameter("metric", str, description="of all streams of a family together"),
            OpenApiParameter("attribute", str, many=True, description="NAME=VALUE, with metric"),
            OpenApiParameter("by", enum=BY),
            OpenApiParameter("n", int, description="how many before it, 8 where not stated"),
            OpenApiParameter("day", str, description="a day of the period; without it the last finished one"),
        ],
        responses=PeriodLookSerializer,
    )
    def get(self, request) -> Response:
        """The last finished day or week against the same one of the n before it, with what pushed it up and down."""
        return Response(services.look(_wanted(request)))


class MorningSerializer(serializers.Serializer):
    id = serializers.IntegerField(read_only=True)
    stream = serializers.IntegerField(source="stream_id", required=False, allow_null=True, default=None)
    metric = serializers.CharField(max_length=200, required=False, allow_blank=True, default="")
    attributes = serializers.DictField(
        child=serializers.CharField(max_length=400), required=False, default=dict
    )
    title = serializers.SerializerMethodField()
    by = serializers.ChoiceField(choices=BY, default="day")
    n = serializers.IntegerField(min_value=1, max_value=MOST_BEFORE, default=8)
    clock = serializers.TimeField(source="at", format="%H:%M", help_text="when, for example 07:30")
    zone = serializers.CharField(max_length=64)
    route = serializers.IntegerField(source="route_id")
    route_name = serializers.CharField(source="route.name", read_only=True)
    created_by = serializers.CharField(read_only=True)
    created_at = serializers.DateTimeField(read_only=True)

    def get_title(self, row: Morning) -> str:
        if row.stream is not None:
            return row.stream.name
        return ", ".join([row.metric, *(f"{k} {v}" for k, v in sorted(row.attributes.items()))])


class MorningsView(APIView):
    @extend_schema(
        operation_id="mornings", parameters=paging.PARAMETERS, responses=paging.of(MorningSerializer)
    )
    def get(self, request) -> Response:
        """Looks that are sent each morning."""
        found = Morning.objects.select_related("stream", "route")
        return paging.rows(request, found, lambda rows: MorningSerializer(rows, many=True).data)

    @extend_schema(operation_id="make_morning", request=MorningSerializer, responses={201: MorningSerializer})
    def post(self, request) -> Response:
        """Send a look each morning, or each Monday for a week's, to a route; the first one with the next period."""
        given = MorningSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        data = given.validated_data
        if (data["stream_id"] is None) == (not data["metric"]):
            raise Problem("state a stream or a metric", place="stream", remedy="name one of them")
        _there(Stream, data["stream_id"], "stream")
        _there(Route, data["route_id"], "route")
        try:
            clock.zone(data["zone"])
        except ValueError as error:
            raise Problem(str(error), place="zone", remedy="write for example Europe/Dublin") from error
        wanted = Wanted(data["by"], data["n"], data["stream_id"], data["metric"], data["attributes"])
        wanted.streams()
        latest, by = _latest(wanted), request.user.get_username()
        with transaction.atomic():
            made = Morning.objects.create(**data, created_by=by, sent_for=latest)
            trail.note(request, "morning look made", made.route.name)
        return Response(MorningSerializer(made).data, status=201)


def _there(model: Any, pk: int | None, place: str) -> None:
    if pk is not None and not model.objects.filter(pk=pk).exists():
        raise Problem(f"no {place} {pk}", place=place, remedy="name one that is there", code=404)


def _latest(wanted: Wanted) -> int | None:
    """Begin of the latest finished period: that one is seen by whoever makes the look."""
    try:
        return moments.ns(services.look(wanted)["start"])
    except Problem:
        return None


class MorningView(APIView):
    @extend_schema(operation_id="delete_morning", responses={204: None})
    def delete(self, request, pk: int) -> Response:
        """Send a look no more."""
        row = Morning.objects.get(pk=pk)
        row.delete()
        trail.note(request, "morning look ended", str(pk))
        return Response(status=204)
