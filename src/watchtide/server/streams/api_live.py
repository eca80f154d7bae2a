"""Pushes, feeds, formulas and calendars over REST."""

import hashlib
import zlib
from collections.abc import Sequence

from django.conf import settings
from django.db import transaction
from django.http import HttpResponse, QueryDict
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.parsers import BaseParser, MultiPartParser
from rest_framework.response import Response
from rest_framework.views import APIView

from watchtide.core.series import SECOND_NS
from watchtide.server import moments, paging, query, versions
from watchtide.server.jobs.api import JobSerializer
from watchtide.server.people import trail
from watchtide.server.people.models import Token
from watchtide.server.problems import Problem
from watchtide.server.streams import calendars, feeds, limits, live, renewing
from watchtide.server.streams.api import every_of
from watchtide.server.streams.models import SIDES, Calendar, Derived, Feed
from watchtide.tables import calendars as ical
from watchtide.tables import clock, jsonpoints, otlp

JSON_LINES = ("application/x-ndjson", "application/jsonl", "application/json-lines")


class AnyBody(BaseParser):
    """Leaves the body alone: the view checks its size before a byte is looked at."""

    media_type = "*/*"

    def parse(self, stream, media_type=None, parser_context=None):
        # Not the stream: of a form, the CSRF check asks for fields.
        return QueryDict()


def body_of(request) -> bytes:
    """The body, unpacked. Raises Problem with 413 for one too large and 415 for a packing that is not known."""
    limit = settings.MOST_PUSH_BYTES
    too_large = Problem(
        f"the body is larger than {limit >> 20} MB", place="body", remedy="send smaller batches", code=413
    )
    stated = request.META.get("CONTENT_LENGTH") or "0"
    if stated.isdigit() and int(stated) > limit:
        raise too_large
    data = request._request.read(limit + 1)
    if len(data) > limit:
        raise too_large
    packing = request.headers.get("Content-Encoding", "identity").lower()
    if packing == "identity":
        return data
    if packing != "gzip":
        raise Problem(
            f"{packing!r} is not known", place="Content-Encoding", remedy="send gzip or none", code=415
        )
    most = settings.MOST_PUSH_INFLATED
    unpacker = zlib.decompressobj(wbits=31)
    try:
        out = unpacker.decompress(data, most + 1)
    except zlib.error as error:
        raise Problem("the gzip stream is damaged", place="body", remedy="pack it anew") from error
    if len(out) > most or unpacker.unconsumed_tail:
        raise Problem(
            f"unpacks to more than {most >> 20} MB", place="body", remedy="send smaller batches", code=413
        )
    if not unpacker.eof:
        raise Problem("the gzip stream is cut off", place="body", remedy="send it whole")
    return out


def kind_of(request, known: tuple[str, ...]) -> str:
    kind = (request.content_type or "").partition(";")[0].strip().lower()
    if kind not in known:
        raise Problem(
            f"{kind or 'no content type'}",
            place="Content-Type",
            remedy=f"send {' or '.join(known)}",
            code=415,
        )
    return kind


def _source(request) -> tuple[str, str]:
    """(what limits are counted by, how the source is called)."""
    if isinstance(request.auth, Token):
        return f"token {request.auth.pk}", f"token {request.auth.name}"
    return f"user {request.user.pk}", f"{request.user.get_username()}"


class PushedSerializer(serializers.Serializer):
    points = serializers.IntegerField()
    refused = serializers.IntegerField()
    refusals = serializers.CharField(allow_blank=True)
    is_repeat = serializers.BooleanField()


class JsonPushView(APIView):
    token_scope = "push"
    parser_classes = [AnyBody]

    @extend_schema(
        operation_id="push",
        parameters=[
            OpenApiParameter("zone", str, description="of stamps without offset"),
            OpenApiParameter("Idempotency-Key", str, OpenApiParameter.HEADER),
        ],
        request={"application/x-ndjson": OpenApiTypes.STR},
        responses=PushedSerializer,
    )
    def post(self, request) -> Response:
        """Points as JSON Lines: {"time": …, "metric": …, "value": …, and attributes}.

        A repeat changes nothing: it is known by its Idempotency-Key, or else by its content.
        """
        who, name = _source(request)
        limits.count(who, requests=1)
        kind_of(request, JSON_LINES)
        body = body_of(request)
        zone = request.GET.get("zone", "UTC")
        clock.zone(zone)
        points = jsonpoints.parse(body, zone=zone)
        limits.count(who, points=len(points.codes))
        if not points.codes and points.refused:
            raise Problem(points.refusals, place="body", remedy="correct the lines and send them again")
        key, digest = _key(request, who, body, zone)
        taken = live.take(
            points, key=key, source=name, door="push", user=request.user, zone=zone, body_sha=digest
        )
        return Response(
            {"points": taken.points, "refused": points.refused_count, "refusals": points.refusals, "is_repeat": taken.is_repeat}
        )  # fmt: skip


def _key(request, who: str, body: bytes, zone: str = "UTC") -> tuple[str, str]:
    """(what a batch is known by, digest of what was sent; none where it is the key itself)."""
    stated = request.headers.get("Idempotency-Key", "").strip()
    if len(stated) > 200:
        raise Problem("longer than 200 characters", place="Idempotency-Key", remedy="write a shorter one")
    digest = hashlib.sha256(body + b"\0" + zone.encode()).hexdigest()
    if stated:
        return f"{who} key {stated}", digest
    return f"{who} body {hashlib.sha256(body).hexdigest()}", ""


class OtlpView(APIView):
    token_scope = "push"
    parser_classes = [AnyBody]

    @extend_schema(exclude=True)
    def post(self, request) -> HttpResponse:
        """OTLP/HTTP metrics, protobuf or JSON, plain or gzipped."""
        who, name = _source(request)
        limits.count(who, requests=1)
        kind = kind_of(request, (otlp.PROTOBUF, otlp.JSON))
        body = body_of(request)
        points = otlp.points_of(otlp.decode(body, kind), live.begun)
        limits.count(who, points=len(points.codes))
        key, digest = _key(request, who, body)
        live.take(points, key=key, source=name, door="push", user=request.user, body_sha=digest)
        return HttpResponse(otlp.answer(points, kind), content_type=kind)

    def handle_exception(self, error: Exception) -> HttpResponse:
        """What goes wrong, in the protocol's own form."""
        found = super().handle_exception(error)
        kind = otlp.kind_of(self.request.content_type or "")
        body = otlp.failure(found.status_code, str(found.data.get("detail", "")), kind)
        answer = HttpResponse(body, status=found.status_code, content_type=kind)
        for name in ("Retry-After", "WWW-Authenticate"):
            if name in found:
                answer[name] = found[name]
        return answer


class FeedSerializer(versions.Tagged, serializers.ModelSerializer):
    kind = serializers.ChoiceField(choices=[(k, k) for k in ("metrics", "calendar")])
    attributes = serializers.DictField(child=serializers.CharField(max_length=500), required=False)
    every_s = serializers.IntegerField(required=False, default=60)
    timeout_s = serializers.IntegerField(required=False, default=10)

    class Meta:
        model = Feed
        fields = [
            "id", "name", "kind", "url", "every_s", "timeout_s", "attributes", "zone", "is_on", "next_at", "last_at",
            "last_status", "last_samples", "is_fine", "failures", "etag",
        ]  # fmt: skip
        read_only_fields = ["next_at", "last_at", "last_status", "last_samples", "is_fine", "failures"]

    def edited(self) -> Sequence[str]:
        return sorted(set(self.Meta.fields) - set(self.Meta.read_only_fields) - {"etag"})


def _feed_tag(feed: Feed) -> str:
    return str(FeedSerializer(feed).data["etag"])


class FeedsView(APIView):
    @extend_schema(operation_id="feeds", parameters=paging.PARAMETERS, responses=paging.of(FeedSerializer))
    def get(self, request) -> Response:
        """Pages that are fetched on a schedule, with how the last time went."""
        return paging.rows(
            request, Feed.objects.all(), lambda rows: FeedSerializer(rows, many=True).data, by="name"
        )

    @extend_schema(operation_id="add_feed", request=FeedSerializer, responses={201: FeedSerializer})
    def post(self, request) -> Response:
        given = FeedSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        feeds.check(given.validated_data)
        feed = given.save(created_by=request.user, next_at=moments.now())
        return Response(FeedSerializer(feed).data, status=201)


class FeedView(APIView):
    admin_methods = ("DELETE",)

    @extend_schema(operation_id="edit_feed", request=FeedSerializer(partial=True), responses=FeedSerializer)
    def patch(self, request, pk: int) -> Response:
        with transaction.atomic():
            feed = Feed.objects.select_for_update().get(pk=pk)
            versions.check(request, _feed_tag(feed))
            given = FeedSerializer(feed, data=request.data, partial=True)
            given.is_valid(raise_exception=True)
            data = given.validated_data
            feeds.check({**{k: getattr(feed, k) for k in ("every_s", "timeout_s", "url", "zone")}, **data})
            for name, value in data.items():
                setattr(feed, name, value)
            feed.next_at, feed.failures = moments.now(), 0
            feed.save(update_fields=[*data, "next_at", "failures"])
        return Response(FeedSerializer(feed).data, headers={"ETag": _feed_tag(feed)})

    @extend_schema(operation_id="delete_feed", responses={204: None})
    def delete(self, request, pk: int) -> Response:
        """Stop fetching. What it brought stays."""
        feed = Feed.objects.get(pk=pk)
        with transaction.atomic():
            feed.delete()
            trail.note(request, "feed deleted", feed.name)
        return Response(status=204)


class PullView(APIView):
    @extend_schema(operation_id="pull_feed", request=None, responses=FeedSerializer)
    def post(self, request, pk: int) -> Response:
        """Fetch a feed now, and say how it went."""
        feed = Feed.objects.get(pk=pk)
        feeds.pull(feed)
        feed.refresh_from_db()
        return Response(FeedSerializer(feed).data)


class DerivedSerializer(serializers.ModelSerializer):
    by = serializers.ListField(child=serializers.CharField(max_length=200), required=False, max_length=20)
    every = serializers.CharField(max_length=20, required=False, allow_null=True, write_only=True)
    bad_side = serializers.ChoiceField(choices=SIDES, required=False)
    metric = serializers.CharField(max_length=180)
    formula = serializers.CharField(max_length=2000)

    class Meta:
        model = Derived
        fields = [
            "id",
            "metric",
            "formula",
            "by",
            "every",
            "every_ns",
            "unit",
            "bad_side",
            "zone",
            "message",
            "renewed_at",
        ]
        read_only_fields = ["every_ns", "message", "renewed_at"]


class DefinedSerializer(serializers.Serializer):
    formula = DerivedSerializer()
    streams = serializers.IntegerField()
    job = JobSerializer()


class DerivedsView(APIView):
    @extend_schema(
        operation_id="formulas", parameters=paging.PARAMETERS, responses=paging.of(DerivedSerializer)
    )
    def get(self, request) -> Response:
        """Formulas over streams, and when each was last computed."""
        return paging.rows(
            request, Derived.objects.all(), lambda rows: DerivedSerializer(rows, many=True).data, by="metric"
        )

    @extend_schema(
        operation_id="define_formula", request=DerivedSerializer, responses={202: DefinedSerializer}
    )
    def post(self, request) -> Response:
        """Make a stream of others, such as `1000 * [ticket_errors] / [ticket_pages]`; see docs/formats.md."""
        given = DerivedSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        data = dict(given.validated_data)
        if data.get("every"):
            every = every_of(data["every"])
            if not isinstance(every, int):
                raise Problem(
                    f"{every} is no fixed length", place="every", remedy="write for example 1h or 7d"
                )
            data["every_ns"] = every
        formula, made = renewing.define(data, request.user)
        live.numbers.forget()
        return Response(DefinedSerializer({"formula": formula, **made}).data, status=202)


class DerivedView(APIView):
    @extend_schema(operation_id="delete_formula", responses={204: None})
    def delete(self, request, pk: int) -> Response:
        """Stop computing a formula. The streams it made stay, and can be deleted in the catalogue."""
        Derived.objects.get(pk=pk).delete()
        return Response(status=204)


class CalendarSerializer(serializers.ModelSerializer):
    class Meta:
        model = Calendar
        fields = ["id", "name", "zone", "events", "updated_at"]


class CalendarsView(APIView):
    parser_classes = [MultiPartParser]

    @extend_schema(
        operation_id="calendars", parameters=paging.PARAMETERS, responses=paging.of(CalendarSerializer)
    )
    def get(self, request) -> Response:
        """Calendars of known days."""
        found = Calendar.objects.defer("payload")
        return paging.rows(request, found, lambda rows: CalendarSerializer(rows, many=True).data, by="name")

    @extend_schema(
        operation_id="keep_calendar",
        request={
            "multipart/form-data": {
                "type": "object",
                "properties": {
                    "file": {"type": "string", "format": "binary"},
                    "name": {"type": "string"},
                    "zone": {"type": "string"},
                },
            }
        },
        responses={200: CalendarSerializer, 201: CalendarSerializer},
    )
    def post(self, request) -> Response:
        """Keep an iCalendar file under a name, in place of what had it."""
        file = request.FILES.get("file")
        if file is None:
            raise Problem("no file was sent", place="file", remedy="choose an .ics file")
        if file.size > ical.MOST_BYTES:
            raise Problem(f"larger than {ical.MOST_BYTES >> 20} MB", place=file.name, remedy="leave out what is long past", code=413)  # fmt: skip
        name = str(query.fields(request).get("name") or file.name.rsplit(".", 1)[0])[:120]
        kept, is_new = calendars.keep(
            name, file.read(), str(query.fields(request).get("zone") or "UTC"), request.user
        )
        return Response(CalendarSerializer(kept).data, status=201 if is_new else 200)


class CalendarView(APIView):
    admin_methods = ("DELETE",)

    @extend_schema(operation_id="delete_calendar", responses={204: None})
    def delete(self, request, pk: int) -> Response:
        calendar = Calendar.objects.get(pk=pk)
        with transaction.atomic():
            calendar.delete()
            trail.note(request, "calendar deleted", calendar.name)
        return Response(status=204)


class DaySerializer(serializers.Serializer):
    calendar = serializers.CharField()
    name = serializers.CharField()
    start = query.MomentField()
    stop = query.MomentField()
    is_all_day = serializers.BooleanField()
    place = serializers.CharField(allow_blank=True)


class DaysView(APIView):
    @extend_schema(
        operation_id="calendar_days",
        parameters=[
            *paging.PARAMETERS,
            *query.SPAN,
            OpenApiParameter("calendar", int, description="one calendar only"),
        ],
        responses=paging.of(DaySerializer),
    )
    def get(self, request) -> Response:
        """Known days within a span, of all calendars: recurring ones written out, the end not included."""
        now = moments.now_ns()
        month = 31 * 86_400 * SECOND_NS
        first, last = query.moment(request, "from"), query.moment(request, "to")
        first, last = (now - month if first is None else first), (now + month if last is None else last)
        if last < first:
            raise Problem("the span ends before it begins", place="to", remedy="swap from and to")
        found = Calendar.objects.order_by("name")
        if (calendar := query.whole(request, "calendar")) is not None:
            found = found.filter(pk=calendar)
        rows = [
            {
                "calendar": c.name, "name": d.name, "start": d.start_ns, "stop": d.stop_ns, "is_all_day": d.is_all_day, "place": d.place,
            }
            for c in found
            for d in calendars.days_of(c, first, last)
        ]  # fmt: skip
        rows.sort(key=lambda r: r["start"])
        return paging.parts(
            request, rows, lambda part: DaySerializer(part, many=True).data, usual=paging.MOST
        )
