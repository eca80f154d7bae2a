"""Routes and the outbox over REST: where notices go, and what became of each."""

from typing import Any

from django.db import transaction
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response
from rest_framework.views import APIView

from watchtide.server import outgoing, paging, query
from watchtide.server.lookouts import mail, notices, sending, taking
from watchtide.server.lookouts.models import (
    HOOK,
    KINDS,
    MAIL,
    NOTICE_KINDS,
    OUTBOX_STATES,
    ROUTE_STATES,
    Delivery,
    Route,
)
from watchtide.server.people import trail
from watchtide.server.problems import Problem

CLOCK = r"^([01]\d|2[0-3]):[0-5]\d$"


class HoursSerializer(serializers.Serializer):
    """Hours on some days of the week; closing before it opens, they go on into the next day."""

    days = serializers.ListField(
        child=serializers.IntegerField(min_value=1, max_value=7), max_length=7, help_text="1 is Monday"
    )
    opens = serializers.RegexField(CLOCK, help_text="for example 18:00")
    closes = serializers.RegexField(CLOCK)


class TakesSerializer(serializers.Serializer):
    """Which findings a route takes, and when; what is left out lets all through."""

    metrics = serializers.ListField(
        child=serializers.CharField(max_length=200), required=False, max_length=100
    )
    attributes = serializers.DictField(child=serializers.CharField(max_length=400), required=False)
    sides = serializers.ChoiceField(
        choices=taking.SIDES, required=False, help_text="bad: the one that is bad for the stream"
    )
    least = serializers.FloatField(
        required=False, allow_null=True, min_value=0, help_text="sigmas; a finding that grows is sent then"
    )
    hours = HoursSerializer(many=True, required=False, max_length=taking.MOST_HOURS)
    zone = serializers.CharField(required=False, max_length=64, help_text="of the hours")
    calendar = serializers.CharField(
        required=False, max_length=200, allow_blank=True, help_text="a kept one; only while an event is on"
    )
    who = serializers.CharField(
        required=False, max_length=200, allow_blank=True, help_text="in the names of those events"
    )


class RouteSerializer(serializers.Serializer):
    id = serializers.IntegerField(read_only=True)
    kind = serializers.ChoiceField(choices=KINDS)
    name = serializers.CharField(max_length=120)
    to = serializers.CharField(
        max_length=500, help_text="a web address, called as feeds are; for mail the address to write to"
    )
    state = serializers.ChoiceField(
        choices=ROUTE_STATES,
        read_only=True,
        help_text="unconfirmed: a mail address whose link was not opened yet; ready: notices go there",
    )
    points = serializers.BooleanField(
        source="has_points", default=False, help_text="send the points of the span along, as CSV"
    )
    takes = TakesSerializer(default=dict)
    most_an_hour = serializers.IntegerField(
        default=None, allow_null=True, min_value=1, max_value=10_000,
        help_text="notices; the rest waits and is joined into one",
    )  # fmt: skip
    failing_since = serializers.DateTimeField(read_only=True, allow_null=True)
    failures = serializers.IntegerField(read_only=True, help_text="in a row")
    last_detail = serializers.CharField(read_only=True, help_text="what went wrong last")
    created_by = serializers.CharField(read_only=True)
    created_at = serializers.DateTimeField(read_only=True)


class MadeRouteSerializer(RouteSerializer):
    secret = serializers.CharField(help_text="what a hook's messages are signed with; shown only now")


class RoutesView(APIView):
    @extend_schema(operation_id="routes", parameters=paging.PARAMETERS, responses=paging.of(RouteSerializer))
    def get(self, request) -> Response:
        """Where notices go."""
        return paging.rows(
            request, Route.objects.all(), lambda rows: RouteSerializer(rows, many=True).data, by="name"
        )

    @extend_schema(operation_id="make_route", request=RouteSerializer, responses={201: MadeRouteSerializer})
    def post(self, request) -> Response:
        """Make a route. A hook gets a secret, which is shown only now; a mail address gets a letter that asks whether it wants
        notices."""
        given = RouteSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        data = given.validated_data
        query.unused(Route, data["name"])
        checked = mail.checked if data["kind"] == MAIL else outgoing.checked
        by = request.user.get_username()
        data["to"] = checked(data["to"], "to")
        data["takes"] = taking.checked(data["takes"])
        secret = sending.new_secret() if data["kind"] == HOOK else ""
        with transaction.atomic():
            route = Route.objects.create(**data, secret=secret, created_by=by)
            if route.kind == MAIL:
                notices.ask(route, by)
            trail.note(request, "route made", route.name)
        return Response(MadeRouteSerializer(route).data, status=201)


class RouteView(APIView):
    @extend_schema(operation_id="route", responses=RouteSerializer)
    def get(self, request, pk: int) -> Response:
        return Response(RouteSerializer(Route.objects.get(pk=pk)).data)

    @extend_schema(operation_id="change_route", request=RouteSerializer, responses=RouteSerializer)
    def patch(self, request, pk: int) -> Response:
        """Change a route's name, what it takes, and how much; where it goes stays, make another one for that."""
        given = RouteSerializer(data=request.data, partial=True)
        given.is_valid(raise_exception=True)
        data = given.validated_data
        with transaction.atomic():
            route = Route.objects.select_for_update().get(pk=pk)
            for name in ("kind", "to"):
                if name in data and data[name] != getattr(route, name):
                    raise Problem(
                        f"a route's {name} cannot be changed",
                        place=name,
                        remedy="make another route",
                        code=409,
                    )
            if "name" in data and data["name"] != route.name:
                query.unused(Route, data["name"])
            if "takes" in data:
                data["takes"] = taking.checked(data["takes"])
            for name in ("name", "takes", "most_an_hour", "has_points"):
                if name in data:
                    setattr(route, name, data[name])
            route.save()
            trail.note(request, "route changed", route.name)
        return Response(RouteSerializer(route).data)

    @extend_schema(operation_id="delete_route", responses={204: None})
    def delete(self, request, pk: int) -> Response:
        """Take a route away, with its outbox; lookouts go on without it."""
        route = Route.objects.get(pk=pk)
        route.delete()
        trail.note(request, "route taken away", route.name)
        return Response(status=204)


class OutboxSerializer(serializers.Serializer):
    """One notice on its way to one route."""

    id = serializers.IntegerField()
    notice = serializers.CharField(source="notice.uid", help_text="the same in every attempt")
    kind = serializers.ChoiceField(source="notice.kind", choices=NOTICE_KINDS)
    title = serializers.CharField(source="notice.title")
    lookout = serializers.IntegerField(source="notice.lookout_id", allow_null=True)
    stream = serializers.IntegerField(source="notice.stream_id", allow_null=True)
    route = serializers.IntegerField(source="route_id")
    route_name = serializers.CharField(source="route.name")
    state = serializers.ChoiceField(choices=OUTBOX_STATES)
    attempts = serializers.ListField(
        child=serializers.DictField(child=serializers.CharField(allow_blank=True))
    )
    due_at = serializers.DateTimeField(allow_null=True, help_text="of the next try")
    created_at = serializers.DateTimeField()


class RouteTestView(APIView):
    @extend_schema(operation_id="test_route", request=None, responses={202: OutboxSerializer})
    def post(self, request, pk: int) -> Response:
        """Send a notice that is none, to see whether it arrives."""
        route = Route.objects.get(pk=pk)
        with transaction.atomic():
            made = notices.test_of(route, request.user.get_username())
        return Response(OutboxSerializer(made).data, status=202)


class RouteAskView(APIView):
    @extend_schema(operation_id="ask_route", request=None, responses={202: OutboxSerializer})
    def post(self, request, pk: int) -> Response:
        """Write to a mail address again, asking whether it wants notices."""
        route = Route.objects.get(pk=pk)
        if route.is_open:
            raise Problem(
                f"{route.to} is confirmed already", remedy="nothing is to be done", place="id", code=409
            )
        with transaction.atomic():
            asked = notices.ask(route, request.user.get_username())
        return Response(OutboxSerializer(asked).data, status=202)


class OutboxView(APIView):
    @extend_schema(
        operation_id="outbox",
        parameters=[
            *paging.PARAMETERS,
            OpenApiParameter("state", enum=[s for s, _ in OUTBOX_STATES]),
            OpenApiParameter("lookout", int),
        ],
        responses=paging.of(OutboxSerializer),
    )
    def get(self, request) -> Response:
        """Notices and what became of them, the latest first: one item a notice and route."""
        found = Delivery.objects.select_related("notice", "route")
        if state := query.choice(request, "state", [s for s, _ in OUTBOX_STATES]):
            found = found.filter(state=state)
        if (lookout := query.whole(request, "lookout")) is not None:
            found = found.filter(notice__lookout=lookout)

        def listed(rows: Any) -> Any:
            return OutboxSerializer(rows, many=True).data

        return paging.rows(request, found, listed)


class ResendView(APIView):
    @extend_schema(operation_id="resend", request=None, responses={202: OutboxSerializer})
    def post(self, request, pk: int) -> Response:
        """Try a delivery again now; the notice keeps its id."""
        row = Delivery.objects.select_related("notice", "route").get(pk=pk)
        sending.resend(row)
        row.refresh_from_db()
        return Response(OutboxSerializer(row).data, status=202)
