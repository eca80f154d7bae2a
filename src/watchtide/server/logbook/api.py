"""The logbook over REST: list, write, import, export."""

from typing import Any

from django.http import HttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.parsers import JSONParser, MultiPartParser
from rest_framework.response import Response
from rest_framework.views import APIView

from watchtide.core import keys
from watchtide.server.logbook import services
from watchtide.server.logbook.models import ORIGIN_CHOICES, VERDICT_CHOICES, Entry, Revision
from watchtide.server.problems import Problem
from watchtide.server.streams.models import Stream
from watchtide.tables import clock, labels

PAGE = 200
MOST_LABEL_BYTES = 32 * 2**20


class TimeField(serializers.Field):
    """Nanoseconds inside, ISO 8601 in UTC outside."""

    def __init__(self, **kwargs) -> None:
        super().__init__(**kwargs)

    def to_representation(self, value: int) -> str:
        return clock.format_time(value)

    def to_internal_value(self, data: str) -> int:
        try:
            return clock.parse_one(str(data))
        except clock.ClockError as error:
            raise serializers.ValidationError(str(error)) from error


TimeField._spectacular_annotation = {"field": OpenApiTypes.DATETIME}


class EntrySerializer(serializers.Serializer):
    id = serializers.IntegerField(read_only=True)
    scope = serializers.CharField(allow_blank=True, default="", max_length=2000)
    start = TimeField(source="start_ns")
    end = TimeField(source="end_ns")
    verdict = serializers.ChoiceField(choices=VERDICT_CHOICES)
    kind = serializers.CharField(allow_blank=True, default="", max_length=80)
    cause = serializers.CharField(allow_blank=True, default="", max_length=500)
    note = serializers.CharField(allow_blank=True, default="", max_length=10_000)
    author = serializers.CharField(read_only=True)
    origin = serializers.ChoiceField(choices=ORIGIN_CHOICES, default="independent")
    created_at = serializers.DateTimeField(read_only=True)


class EntryPageSerializer(serializers.Serializer):
    entries = EntrySerializer(many=True)
    next = serializers.IntegerField(allow_null=True)
    total = serializers.IntegerField()
    version = serializers.IntegerField()


class TakenInSerializer(serializers.Serializer):
    added = serializers.IntegerField()
    skipped = serializers.IntegerField()


class EntriesView(APIView):
    @extend_schema(
        operation_id="entries",
        parameters=[
            OpenApiParameter("stream", int), OpenApiParameter("verdict", str), OpenApiParameter("text", str),
            OpenApiParameter("cursor", int),
        ],
        responses=EntryPageSerializer,
    )  # fmt: skip
    def get(self, request) -> Response:
        """Live entries, latest start first; of one stream, those that cover it."""
        found = services.live()
        if request.GET.get("verdict"):
            found = found.filter(verdict=request.GET["verdict"])
        if request.GET.get("text"):
            text = request.GET["text"]
            found = (
                found.filter(cause__icontains=text)
                | found.filter(note__icontains=text)
                | found.filter(scope__icontains=text)
            )
        rows = list(found.order_by("-start_ns", "-pk"))
        if request.GET.get("stream"):
            key = Stream.objects.values_list("key", flat=True).get(pk=int(request.GET["stream"]))
            rows = [e for e in rows if keys.covers(e.scope, key)]
        at = int(request.GET.get("cursor") or 0)
        page = rows[at : at + PAGE]
        following = at + PAGE if at + PAGE < len(rows) else None
        return Response(
            {
                "entries": EntrySerializer(page, many=True).data,
                "next": following,
                "total": len(rows),
                "version": services.version(),
            }
        )

    @extend_schema(operation_id="add_entry", request=EntrySerializer, responses=EntrySerializer)
    def post(self, request) -> Response:
        given = EntrySerializer(data=request.data)
        given.is_valid(raise_exception=True)
        return Response(
            EntrySerializer(services.add(given.validated_data, request.user.get_username())).data, status=201
        )


class EntryView(APIView):
    @extend_schema(operation_id="change_entry", request=EntrySerializer, responses=EntrySerializer)
    def patch(self, request, pk: int) -> Response:
        given = EntrySerializer(data=request.data, partial=True)
        given.is_valid(raise_exception=True)
        entry = services.live().get(pk=pk)
        return Response(
            EntrySerializer(services.change(entry, given.validated_data, request.user.get_username())).data
        )

    @extend_schema(operation_id="remove_entry", responses={204: None})
    def delete(self, request, pk: int) -> Response:
        services.remove(services.live().get(pk=pk), request.user.get_username())
        return Response(status=204)


class RestoreView(APIView):
    @extend_schema(operation_id="restore_entry", request=None, responses=EntrySerializer)
    def post(self, request, pk: int) -> Response:
        entry = Entry.objects.get(pk=pk)
        services.restore(entry, request.user.get_username())
        return Response(EntrySerializer(entry).data)


class FieldChangeSerializer(serializers.Serializer):
    """One field before and after; times in ISO 8601, UTC."""

    name = serializers.CharField()
    before = serializers.JSONField()
    after = serializers.JSONField()

    def to_representation(self, row: dict[str, Any]) -> dict[str, Any]:
        name = row["name"]
        if not name.endswith("_ns"):
            return dict(row)
        return {
            "name": name.removesuffix("_ns"),
            **{side: clock.format_time(row[side]) for side in ("before", "after")},
        }


class RevisionSerializer(serializers.Serializer):
    id = serializers.IntegerField()
    action = serializers.CharField(help_text="add, change, remove, restore or import")
    by = serializers.CharField()
    at = serializers.DateTimeField()
    changed = FieldChangeSerializer(many=True)


class RevisionsView(APIView):
    @extend_schema(operation_id="revisions", responses=RevisionSerializer(many=True))
    def get(self, request, pk: int) -> Response:
        """What an entry was, newest first; of one that was taken out, too. Nothing here can be rewritten."""
        return Response(RevisionSerializer(services.history(Entry.objects.get(pk=pk)), many=True).data)


class ReturnView(APIView):
    @extend_schema(operation_id="return_entry", request=None, responses=EntrySerializer)
    def post(self, request, pk: int, revision: int) -> Response:
        """Make an entry again what it was at a revision."""
        entry = services.return_to(
            Entry.objects.get(pk=pk), Revision.objects.get(pk=revision), request.user.get_username()
        )
        return Response(EntrySerializer(entry).data)


class ImportView(APIView):
    parser_classes = [MultiPartParser, JSONParser]

    @extend_schema(
        operation_id="import_entries",
        request={
            "multipart/form-data": {
                "type": "object",
                "properties": {"file": {"type": "string", "format": "binary"}},
            }
        },
        responses=TakenInSerializer,
    )
    def post(self, request) -> Response:
        """Take in a labels file, all of it or nothing."""
        file = request.FILES.get("file")
        if file is None:
            raise Problem("no file was sent", place="file", remedy="choose a labels file")
        if file.size > MOST_LABEL_BYTES:
            raise Problem(
                "the labels file is larger than 32 MB", place=file.name, remedy="split it", code=413
            )
        added, skipped = services.take_in(
            labels.read_labels(file.read(), file.name), request.user.get_username()
        )
        return Response({"added": added, "skipped": skipped})


class ExportView(APIView):
    @extend_schema(
        operation_id="export_entries",
        responses={(200, "text/csv"): OpenApiTypes.STR},
        parameters=[OpenApiParameter("kind", str)],
    )
    def get(self, request) -> HttpResponse:
        rows = services.labels()
        if request.GET.get("kind") == "json":
            body, kind = labels.to_json(rows), "application/json"
        else:
            body, kind = labels.to_csv(rows), "text/csv; charset=utf-8"
        response = HttpResponse(body, content_type=kind)
        suffix = "json" if "json" in kind else "csv"
        response["Content-Disposition"] = f'attachment; filename="logbook.{suffix}"'
        return response
