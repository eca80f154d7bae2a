"""Streams and intake over REST."""

import gzip

import numpy as np
import pyarrow as pa
from django.http import HttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.parsers import MultiPartParser
from rest_framework.response import Response
from rest_framework.views import APIView

from watchtide.server.jobs.api import JobSerializer
from watchtide.server.problems import Problem
from watchtide.server.streams import services, store
from watchtide.server.streams.models import SIDES, Batch, Stream, Upload
from watchtide.tables import clock, results
from watchtide.tables.layout import ROLES

MOST_EXPORT_STREAMS = 500


class UploadSerializer(serializers.Serializer):
    id = serializers.IntegerField()
    name = serializers.CharField()
    size = serializers.IntegerField()


class ChoicesSerializer(serializers.Serializer):
    """What the user set instead of the guess."""

    roles = serializers.DictField(
        child=serializers.ChoiceField(choices=[(r, r) for r in ROLES]), required=False
    )
    zone = serializers.CharField(max_length=64, required=False)
    encoding = serializers.CharField(max_length=32, required=False, allow_null=True)
    metric = serializers.CharField(max_length=200, required=False, allow_blank=True)
    unit = serializers.CharField(max_length=40, required=False, allow_blank=True)
    bad_side = serializers.ChoiceField(choices=SIDES, required=False)
    missing_words = serializers.ListField(
        child=serializers.CharField(max_length=40), required=False, max_length=20
    )
    then_scan = serializers.BooleanField(required=False)


class PictureSerializer(serializers.Serializer):
    kind = serializers.CharField()
    bars = serializers.ListField(child=serializers.IntegerField())
    labels = serializers.ListField(child=serializers.CharField())


class ColumnSerializer(serializers.Serializer):
    name = serializers.CharField()
    role = serializers.CharField()
    reason = serializers.CharField()
    missing = serializers.FloatField()
    picture = PictureSerializer()


class RowSerializer(serializers.Serializer):
    line = serializers.IntegerField()
    cells = serializers.ListField(child=serializers.CharField(allow_blank=True))
    broken_column = serializers.CharField(allow_null=True)


class TroubleSerializer(serializers.Serializer):
    kind = serializers.CharField()
    count = serializers.IntegerField()
    first_line = serializers.IntegerField(allow_null=True)
    column = serializers.CharField()
    message = serializers.CharField()
    remedy = serializers.CharField()
    sets_aside = serializers.BooleanField()


class BecomesSerializer(serializers.Serializer):
    title = serializers.CharField()
    samples = serializers.IntegerField()
    line = serializers.ListField(child=serializers.FloatField(allow_null=True))


class PreviewSerializer(serializers.Serializer):
    upload = serializers.IntegerField()
    name = serializers.CharField()
    size = serializers.IntegerField()
    rows = serializers.IntegerField()
    rows_fit = serializers.IntegerField()
    rows_aside = serializers.IntegerField()
    encoding = serializers.CharField()
    delimiter = serializers.CharField()
    zone = serializers.CharField()
    cadence = serializers.CharField()
    cadence_share = serializers.FloatField()
    first = serializers.CharField(allow_null=True)
    last = serializers.CharField(allow_null=True)
    metric = serializers.CharField()
    columns = ColumnSerializer(many=True)
    sample = RowSerializer(many=True)
    problems = TroubleSerializer(many=True)
    streams = serializers.IntegerField()
    streams_known = serializers.IntegerField()
    becomes = BecomesSerializer(many=True)
    is_stored = serializers.BooleanField()


class UploadsView(APIView):
    parser_classes = [MultiPartParser]

    @extend_schema(
        operation_id="upload",
        request={
            "multipart/form-data": {
                "type": "object",
                "properties": {"file": {"type": "string", "format": "binary"}},
            }
        },
        responses=UploadSerializer,
    )
    def post(self, request) -> Response:
        """Hand in a file; nothing of it is stored as samples yet."""
        file = request.FILES.get("file")
        if file is None:
            raise Problem("no file was sent", place="file", remedy="choose a file")
        upload = services.take_upload(file.name, file.chunks(), request.user)
        return Response(UploadSerializer(upload).data, status=201)


class PreviewView(APIView):
    @extend_schema(operation_id="preview", request=ChoicesSerializer, responses=PreviewSerializer)
    def post(self, request, pk: int) -> Response:
        """What is in the file, what was guessed, what is wrong, and what it will become."""
        given = ChoicesSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        return Response(services.preview(Upload.objects.get(pk=pk), given.validated_data))


class AsideView(APIView):
    @extend_schema(
        operation_id="upload_aside",
        request=ChoicesSerializer,
        responses={(200, "text/csv"): OpenApiTypes.STR},
    )
    def post(self, request, pk: int) -> HttpResponse:
        """The rows that would be set aside, as CSV."""
        given = ChoicesSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        upload = Upload.objects.get(pk=pk)
        raw = services.read_upload(upload, given.validated_data.get("encoding"))
        chosen = services.chosen_layout(raw, given.validated_data)
        taken = services.layout.extract(
            raw, chosen, missing_words=given.validated_data.get("missing_words") or ()
        )
        return _csv(
            gzip.decompress(services.aside_csv(taken)) if taken.broken else b"line,column,problem,row\n",
            "set-aside.csv",
        )


class StoreView(APIView):
    @extend_schema(operation_id="store_upload", request=ChoicesSerializer, responses=JobSerializer)
    def post(self, request, pk: int) -> Response:
        """Put down the job that stores the file's rows, and scans them where asked."""
        given = ChoicesSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        job = services.store_upload(Upload.objects.get(pk=pk), given.validated_data, request.user)
        return Response(JobSerializer(job).data, status=202)


class BatchSerializer(serializers.Serializer):
    id = serializers.IntegerField()
    source = serializers.CharField()
    rows_taken = serializers.IntegerField()
    rows_aside = serializers.IntegerField()
    streams = serializers.IntegerField()
    created_by = serializers.CharField(source="created_by.username", allow_null=True, default=None)
    accepted_at = serializers.DateTimeField()


class BatchesView(APIView):
    @extend_schema(operation_id="batches", responses=BatchSerializer(many=True))
    def get(self, request) -> Response:
        """The latest 100 batches."""
        found = Batch.objects.filter(accepted_at__isnull=False).select_related("created_by").defer("aside")
        return Response(BatchSerializer(found.order_by("-accepted_at")[:100], many=True).data)


class BatchAsideView(APIView):
    @extend_schema(operation_id="batch_aside", responses={(200, "text/csv"): OpenApiTypes.STR})
    def get(self, request, pk: int) -> HttpResponse:
        """The rows a batch set aside, as CSV."""
        batch = Batch.objects.get(pk=pk)
        body = gzip.decompress(bytes(batch.aside)) if batch.aside else b"line,column,problem,row\n"
        return _csv(body, f"set-aside-{batch.pk}.csv")


class StreamEditSerializer(serializers.Serializer):
    unit = serializers.CharField(max_length=40, required=False, allow_blank=True)
    zone = serializers.CharField(max_length=64, required=False)
    bad_side = serializers.ChoiceField(choices=SIDES, required=False)


class StreamEditView(APIView):
    @extend_schema(operation_id="edit_stream", request=StreamEditSerializer, responses={204: None})
    def patch(self, request, pk: int) -> Response:
        given = StreamEditSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        services.edit(Stream.objects.get(pk=pk), given.validated_data)
        return Response(status=204)


class SamplesExportView(APIView):
    @extend_schema(
        operation_id="export_samples",
        parameters=[OpenApiParameter("metric", str)],
        responses={(200, "text/csv"): OpenApiTypes.STR},
    )
    def get(self, request) -> HttpResponse:
        """All samples of a family as CSV: metric, its attributes, time, value."""
        streams = list(
            Stream.objects.filter(metric=request.GET.get("metric", "")).order_by("pk")[:MOST_EXPORT_STREAMS]
        )
        if not streams:
            raise Problem(
                "there is no such family", place="metric", remedy="name one of the tide table", code=404
            )
        names = list(dict.fromkeys(name for s in streams for name, _ in s.attributes))
        parts = []
        for s in streams:
            times, values = store.read(s.pk)
            own = dict(s.attributes)
            n = len(times)
            columns = {
                "metric": np.full(n, s.metric),
                **{name: np.full(n, own.get(name, "")) for name in names},
            }
            columns["time"] = clock.format_times(times)
            table = {k: pa.array(v, pa.string()) for k, v in columns.items()}
            table["value"] = pa.array(values, from_pandas=True)
            parts.append(pa.table(table))
        body = results.table_bytes(pa.concat_tables(parts), "samples.csv")
        return _csv(body, f"{streams[0].metric}.csv")


def _csv(body: bytes, name: str) -> HttpResponse:
    response = HttpResponse(body, content_type="text/csv; charset=utf-8")
    safe = "".join(c if c.isalnum() or c in "-_." else "-" for c in name)
    response["Content-Disposition"] = f'attachment; filename="{safe}"'
    return response
