"""The catalogue of streams and their samples over REST."""

import csv
import io
from collections.abc import AsyncIterator, Iterator, Sequence

import numpy as np
from asgiref.sync import sync_to_async
from django.db import transaction
from django.http import HttpResponse, StreamingHttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response
from rest_framework.views import APIView

from watchtide.core.series import COMBINES, SECOND_NS, live
from watchtide.plan import durations
from watchtide.server import moments, paging, query, versions
from watchtide.server.jobs import services as jobs
from watchtide.server.jobs.api import JobSerializer
from watchtide.server.people import trail
from watchtide.server.problems import Problem
from watchtide.server.streams import catalogue, store, undoing
from watchtide.server.streams.models import HIDDEN, KINDS, SIDES, Stream
from watchtide.tables import clock, views
from watchtide.tables.safe import spreadsheet_safe

MOST_EXPORT_STREAMS = 5_000
CALENDAR = ("month", "year")


# What of a stream people edit.
FACTS = (
    "metric", "attributes", "title_given", "family", "unit", "zone", "bad_side", "owner", "runbook", "fed_by", "covariates",
    "retention_days",
)  # fmt: skip


class CatalogueStreamSerializer(versions.Tagged, serializers.ModelSerializer):
    title = serializers.CharField()
    attributes = serializers.ListField(child=serializers.ListField(child=serializers.CharField()))
    bad_side = serializers.ChoiceField(choices=SIDES)
    kind = serializers.ChoiceField(choices=KINDS)
    cadence = serializers.SerializerMethodField()
    first = query.MomentField(source="first_ns", read_only=True, allow_null=True)
    last = query.MomentField(source="last_ns", read_only=True, allow_null=True)
    lateness_s = serializers.SerializerMethodField()
    fed_by = serializers.PrimaryKeyRelatedField(many=True, read_only=True)
    covariates = serializers.PrimaryKeyRelatedField(many=True, read_only=True)

    class Meta:
        model = Stream
        fields = [
            "id", "metric", "key", "title", "title_given", "attributes", "family", "unit", "zone", "bad_side", "owner",
            "runbook", "kind", "fed_by", "covariates", "denominator", "retention_days", "cadence", "first", "last",
            "samples", "lateness_s", "etag",
        ]  # fmt: skip

    def edited(self) -> Sequence[str]:
        return FACTS

    def get_cadence(self, stream: Stream) -> str:
        return stream.cadence or (durations.format_ns(stream.step_ns) if stream.step_ns else "")

    def get_lateness_s(self, stream: Stream) -> float | None:
        return None if stream.lateness_ns is None else stream.lateness_ns / SECOND_NS


class CatalogueView(APIView):
    @extend_schema(
        operation_id="catalogue",
        parameters=[
            OpenApiParameter("q", str, description="words, and name=value for attributes"),
            OpenApiParameter("kind", str),
            OpenApiParameter("owner", str),
            *paging.PARAMETERS,
        ],
        responses=paging.of(CatalogueStreamSerializer, total=serializers.IntegerField()),
    )
    def get(self, request) -> Response:
        """Streams by name and attribute, a page at a time, counters only when asked for by kind."""
        kind = request.GET.get("kind", "")
        found = catalogue.search(request.GET.get("q", ""), kind=kind, owner=request.GET.get("owner", ""))
        if not kind:
            found = found.exclude(kind__in=HIDDEN)
        return paging.rows(
            request,
            found.prefetch_related("fed_by", "covariates"),
            lambda rows: CatalogueStreamSerializer(rows, many=True).data,
            by="metric",
            usual=100,
            total=found.count(),
        )


class StreamEditSerializer(serializers.Serializer):
    metric = serializers.CharField(max_length=200, required=False)
    attributes = serializers.ListField(
        child=serializers.ListField(child=serializers.CharField(max_length=500), min_length=2, max_length=2),
        required=False,
        max_length=64,
    )
    title_given = serializers.CharField(max_length=200, required=False, allow_blank=True)
    family = serializers.CharField(max_length=200, required=False, allow_blank=True)
    unit = serializers.CharField(max_length=40, required=False, allow_blank=True)
    zone = serializers.CharField(max_length=64, required=False)
    bad_side = serializers.ChoiceField(choices=SIDES, required=False)
    owner = serializers.CharField(max_length=150, required=False, allow_blank=True)
    runbook = serializers.CharField(max_length=500, required=False, allow_blank=True)
    fed_by = serializers.ListField(child=serializers.IntegerField(), required=False, max_length=1000)
    covariates = serializers.ListField(child=serializers.IntegerField(), required=False, max_length=100)
    retention_days = serializers.IntegerField(min_value=1, max_value=36_500, required=False, allow_null=True)


class DeleteSerializer(serializers.Serializer):
    confirm = serializers.CharField(allow_blank=True)


def _tag(stream: Stream) -> str:
    return str(CatalogueStreamSerializer(stream).data["etag"])


class StreamEditView(APIView):
    admin_methods = ("DELETE",)

    @extend_schema(operation_id="stream_facts", responses=CatalogueStreamSerializer)
    def get(self, request, pk: int) -> Response:
        stream = Stream.objects.get(pk=pk)
        return Response(CatalogueStreamSerializer(stream).data, headers={"ETag": _tag(stream)})

    @extend_schema(
        operation_id="edit_stream", request=StreamEditSerializer, responses=CatalogueStreamSerializer
    )
    def patch(self, request, pk: int) -> Response:
        """Rename, and change unit, zone, bad side, family, owner, runbook, fed by, covariates, retention."""
        given = StreamEditSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        stream = catalogue.edit(pk, given.validated_data, lambda now: versions.check(request, _tag(now)))
        return Response(CatalogueStreamSerializer(stream).data, headers={"ETag": _tag(stream)})

    @extend_schema(operation_id="delete_stream", request=DeleteSerializer, responses={202: JobSerializer})
    def delete(self, request, pk: int) -> Response:
        """Delete a stream for good; a job does it. Without its key as `confirm`, the answer (409) says what would go."""
        stream = Stream.objects.get(pk=pk)
        catalogue.check_delete(stream, str(query.fields(request).get("confirm") or ""))
        arguments = {"stream": pk, "key": stream.key, "who": trail.of(request)}
        title = f"Delete {stream.name}"
        with transaction.atomic():
            job = jobs.enqueue("delete_stream", title, arguments, user=request.user, about=pk)
        return Response(JobSerializer(job).data, status=202)


class ExpirySerializer(serializers.Serializer):
    days = serializers.IntegerField(min_value=1, max_value=36_500)
    samples = serializers.IntegerField()
    before = serializers.CharField()


class ExpiryView(APIView):
    @extend_schema(
        operation_id="retention_dry_run",
        parameters=[OpenApiParameter("days", int, required=True)],
        responses=ExpirySerializer,
    )
    def get(self, request, pk: int) -> Response:
        """What keeping a stream for so many days would drop. Changes nothing."""
        days = query.required(request, "days", least=1, most=36_500)
        if not 1 <= days <= 36_500:
            raise Problem(f"{days} days", place="days", remedy="take 1 to 36,500")
        now = moments.now_ns()
        found = undoing.expired(Stream.objects.get(pk=pk), days, now)
        return Response(
            {"days": days, "samples": found["samples"], "before": clock.format_time(found["before_ns"])}
        )


class CoarserSerializer(serializers.Serializer):
    every = serializers.CharField()
    combine = serializers.CharField()
    zone = serializers.CharField()
    unit = serializers.CharField()
    times = serializers.ListField(child=query.MomentField())
    values = serializers.ListField(child=serializers.FloatField(allow_null=True))


class CoarserView(APIView):
    @extend_schema(
        operation_id="stream_at_cadence",
        parameters=[
            OpenApiParameter("every", str, required=True, description="1h, 1d, 7d, month, year …"),
            OpenApiParameter("combine", str, enum=COMBINES),
            *query.SPAN,
            OpenApiParameter("with", int, description="a covariate to align to it instead"),
        ],
        responses=CoarserSerializer,
    )
    def get(self, request, pk: int) -> Response:
        """A stored stream at another cadence, by the wall clock where days are meant; nothing is stored.

        With `with`, the samples of that other stream as a covariate at this one's stamps, never looking ahead.
        """
        stream = Stream.objects.get(pk=pk)
        every = every_of(request.GET.get("every", "1h"))
        span = [
            clock.parse_one(text, stream.zone) if (text := request.GET.get(name)) else None
            for name in ("from", "to")
        ]
        times, values = store.read(stream.pk, *span)
        combine = request.GET.get("combine") or views.usual_combine(stream.unit, values)
        bins, out = views.coarser(times, values, every, combine, stream.zone, fill=isinstance(every, int))
        unit = stream.unit
        if (companion := query.whole(request, "with")) is not None:
            other = Stream.objects.get(pk=companion)
            ends = np.r_[bins[1:], bins[-1:] + stream.step_ns] if len(bins) else bins
            out, unit = live.aligned(*store.read(other.pk), bins, ends=ends), other.unit
        if len(bins) > 1_000_000:
            raise Problem(
                f"{len(bins):,} bins", place="every", remedy="take a coarser cadence or a shorter span"
            )
        return Response(
            {
                "every": request.GET.get("every", "1h"), "combine": combine, "zone": stream.zone, "unit": unit,
                "times": moments.each(bins), "values": [None if np.isnan(v) else v for v in out.tolist()],
            }
        )  # fmt: skip


def every_of(text: str) -> int | str:
    """A cadence as stated: a duration, `month` or `year`. Raises Problem."""
    if text in CALENDAR:
        return text
    try:
        ns = durations.parse_ns(text)
    except ValueError as error:
        message, _, remedy = str(error).partition("; ")
        raise Problem(message, place="every", remedy=remedy or "write for example 1h, 1d or month") from error
    if ns <= 0:
        raise Problem("a cadence of nothing", place="every", remedy="write for example 1h, 1d or month")
    return ns


class SamplesExportView(APIView):
    @extend_schema(
        operation_id="export_samples",
        parameters=[OpenApiParameter("metric", str)],
        responses={(200, "text/csv"): OpenApiTypes.STR},
    )
    def get(self, request) -> StreamingHttpResponse:
        """All samples of a family as CSV: metric, its attributes, time, value."""
        streams = list(
            Stream.objects.filter(metric=request.GET.get("metric", "")).order_by("pk")[:MOST_EXPORT_STREAMS]
        )
        if not streams:
            raise Problem(
                "there is no such family", place="metric", remedy="name one of the tide table", code=404
            )
        return csv_answer(_export(streams), f"{streams[0].metric}.csv")


def _export(streams: list[Stream]) -> Iterator[bytes]:
    """CSV, stream by stream, so that an export needs the memory of one."""
    names = list(dict.fromkeys(name for s in streams for name, _ in s.attributes))
    yield _lines([["metric", *map(spreadsheet_safe, names), "time", "value"]])
    for s in streams:
        own = dict(s.attributes)
        head = [spreadsheet_safe(text) for text in (s.metric, *(own.get(name, "") for name in names))]
        times, values = store.read(s.pk)
        for a in range(0, len(times), 50_000):
            stamps = clock.format_times(times[a : a + 50_000]).tolist()
            cells = ["" if np.isnan(v) else repr(v) for v in values[a : a + 50_000].tolist()]
            yield _lines([[*head, t, v] for t, v in zip(stamps, cells, strict=True)])


def _lines(rows: list[list[str]]) -> bytes:
    out = io.StringIO()
    csv.writer(out, lineterminator="\n").writerows(rows)
    return out.getvalue().encode()


async def _in_turn(parts: Iterator[bytes]) -> AsyncIterator[bytes]:
    """Parts made by synchronous code, one at a time; Django would gather a plain iterator whole first."""
    while (part := await sync_to_async(next)(parts, None)) is not None:
        yield part


def csv_answer(body: bytes | Iterator[bytes], name: str) -> HttpResponse | StreamingHttpResponse:
    response = (
        HttpResponse(body, content_type="text/csv; charset=utf-8")
        if isinstance(body, bytes)
        else StreamingHttpResponse(_in_turn(body), content_type="text/csv; charset=utf-8")
    )
    safe = "".join(c if c.isalnum() or c in "-_." else "-" for c in name)
    response["Content-Disposition"] = f'attachment; filename="{safe}"'
    return response
