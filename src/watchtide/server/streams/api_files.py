"""Files, layouts and batches over REST."""

import gzip

from django.db import transaction
from django.db.models import Count, Max, Q, Sum
from django.http import HttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.parsers import MultiPartParser
from rest_framework.response import Response
from rest_framework.views import APIView

from watchtide.server import moments, paging, query
from watchtide.server.jobs import services as jobs
from watchtide.server.jobs.api import JobSerializer
from watchtide.server.jobs.models import Job
from watchtide.server.people import trail
from watchtide.server.problems import Problem
from watchtide.server.streams import files, looking, undoing
from watchtide.server.streams.api import csv_answer
from watchtide.server.streams.models import DOORS, SIDES, Batch, KeptLayout, Upload
from watchtide.tables.clock import STATED_FORMS
from watchtide.tables.layout import DUPLICATES, MEASURES, ROLES


class UploadSerializer(serializers.Serializer):
    id = serializers.IntegerField()
    name = serializers.CharField()
    size = serializers.IntegerField()
    job = JobSerializer(allow_null=True, default=None)
    layout = serializers.CharField(allow_null=True, default=None)


class MeasureSerializer(serializers.Serializer):
    how = serializers.ChoiceField(choices=[(m, m) for m in MEASURES])
    field = serializers.CharField(required=False, allow_null=True, max_length=500)


class RollUpSerializer(serializers.Serializer):
    every = serializers.CharField(max_length=20)
    measures = MeasureSerializer(many=True)


class SaveLayoutSerializer(serializers.Serializer):
    name = serializers.CharField(max_length=120)
    pattern = serializers.CharField(max_length=200, required=False)


class ChoicesSerializer(serializers.Serializer):
    """What the user set instead of the guess."""

    roles = serializers.DictField(
        child=serializers.ChoiceField(choices=[(r, r) for r in ROLES]), required=False
    )
    kept = serializers.IntegerField(required=False, help_text="number of a kept layout; 0 takes none")
    zone = serializers.CharField(max_length=64, required=False)
    encoding = serializers.CharField(max_length=32, required=False, allow_null=True)
    delimiter = serializers.CharField(max_length=1, required=False, trim_whitespace=False)
    quote = serializers.CharField(max_length=1, required=False)
    decimal = serializers.CharField(max_length=1, required=False)
    has_header = serializers.BooleanField(required=False)
    pattern = serializers.CharField(max_length=2000, required=False, allow_blank=True, trim_whitespace=False)
    metric = serializers.CharField(max_length=200, required=False, allow_blank=True)
    unit = serializers.CharField(max_length=40, required=False, allow_blank=True)
    bad_side = serializers.ChoiceField(choices=SIDES, required=False)
    wide_name = serializers.CharField(max_length=200, required=False, allow_blank=True)
    time_form = serializers.ChoiceField(
        choices=[(f, f) for f in STATED_FORMS], required=False, allow_null=True
    )
    keep = serializers.CharField(max_length=2000, required=False, allow_blank=True)
    duplicates = serializers.ChoiceField(choices=[(d, d) for d in DUPLICATES], required=False)
    rollup = RollUpSerializer(required=False, allow_null=True)
    wave_step_s = serializers.FloatField(
        required=False,
        allow_null=True,
        min_value=1e-6,
        max_value=86_400,
        help_text="each row is one waveform; seconds from one of its value columns to the next",
    )
    missing_words = serializers.ListField(
        child=serializers.CharField(max_length=40), required=False, max_length=20
    )
    seed = serializers.IntegerField(required=False, min_value=0, max_value=2**31)
    save_layout = SaveLayoutSerializer(required=False, allow_null=True)
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
    distinct = serializers.IntegerField()
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
    metric = serializers.CharField()
    samples = serializers.IntegerField()
    line = serializers.ListField(child=serializers.FloatField(allow_null=True))


class ShapeSerializer(serializers.Serializer):
    kind = serializers.CharField()
    is_gzipped = serializers.BooleanField()
    encoding = serializers.CharField()
    delimiter = serializers.CharField(trim_whitespace=False)
    quote = serializers.CharField()
    decimal = serializers.CharField()
    has_header = serializers.BooleanField()
    pattern = serializers.CharField(allow_null=True)
    reasons = serializers.DictField(child=serializers.CharField())


class KeptSerializer(serializers.Serializer):
    id = serializers.IntegerField()
    name = serializers.CharField()


class PreviewSerializer(serializers.Serializer):
    upload = serializers.IntegerField()
    name = serializers.CharField()
    size = serializers.IntegerField()
    rows = serializers.IntegerField()
    rows_fit = serializers.IntegerField()
    rows_aside = serializers.IntegerField()
    rows_dropped = serializers.IntegerField()
    is_whole = serializers.BooleanField()
    about_rows = serializers.IntegerField()
    shape = ShapeSerializer()
    zone = serializers.CharField()
    duplicates = serializers.CharField()
    cadence = serializers.CharField()
    cadence_share = serializers.FloatField()
    first = query.MomentField(allow_null=True)
    last = query.MomentField(allow_null=True)
    metric = serializers.CharField()
    unit = serializers.CharField()
    bad_side = serializers.ChoiceField(choices=SIDES)
    kept = KeptSerializer(allow_null=True)
    columns = ColumnSerializer(many=True)
    sample = RowSerializer(many=True)
    random = RowSerializer(many=True)
    problems = TroubleSerializer(many=True)
    streams = serializers.IntegerField()
    streams_known = serializers.IntegerField()
    samples = serializers.IntegerField()
    waves = serializers.ListField(
        child=serializers.CharField(), help_text="numbered columns that are, or may be, one waveform a row"
    )
    wave_step_s = serializers.FloatField(allow_null=True)
    becomes = BecomesSerializer(many=True)
    is_stored = serializers.BooleanField()


class LookingSerializer(serializers.Serializer):
    job = serializers.IntegerField(help_text="looks through a large file; ask again when it is done")


def _given(request) -> dict:
    given = ChoicesSerializer(data=request.data)
    given.is_valid(raise_exception=True)
    return given.validated_data


class UploadsView(APIView):
    parser_classes = [MultiPartParser]

    @extend_schema(
        operation_id="upload",
        request={
            "multipart/form-data": {
                "type": "object",
                "properties": {
                    "file": {"type": "string", "format": "binary"},
                    "by_layout": {
                        "type": "boolean",
                        "description": "store it at once where a kept layout fits",
                    },
                },
            }
        },
        responses={201: UploadSerializer},
    )
    def post(self, request) -> Response:
        """Hand in a file. Nothing of it is stored as samples yet, unless `by_layout` is set and one fits."""
        file = request.FILES.get("file")
        if file is None:
            raise Problem("no file was sent", place="file", remedy="choose a file")
        upload = files.take_upload(file.name, file.chunks(), request.user)
        upload.job = upload.layout = None
        if str(query.fields(request).get("by_layout", "")).lower() in ("1", "true", "yes"):
            kept = files.kept_for(upload, {})
            if kept is None:
                raise Problem(
                    "no kept layout fits this file", place=file.name, remedy="look it through and keep its layout", code=422,
                    upload=upload.pk,
                )  # fmt: skip
            upload.job = files.store_upload(upload, {"kept": kept.pk}, request.user)
            upload.layout = kept.name
        return Response(UploadSerializer(upload).data, status=201)


class PreviewView(APIView):
    @extend_schema(
        operation_id="preview",
        request=ChoicesSerializer,
        responses={200: PreviewSerializer, 202: LookingSerializer},
    )
    def post(self, request, pk: int) -> Response:
        """What is in the file, what was guessed, what is wrong, and what it will become; 202 while a job looks through it."""
        found = looking.look(Upload.objects.get(pk=pk), _given(request), request.user)
        return Response({"job": found.pk}, status=202) if isinstance(found, Job) else Response(found)


class AsideView(APIView):
    @extend_schema(
        operation_id="upload_aside",
        request=ChoicesSerializer,
        responses={(200, "text/csv"): OpenApiTypes.STR},
    )
    def post(self, request, pk: int) -> HttpResponse:
        """The rows that would be set aside, as CSV."""
        return csv_answer(files.aside(Upload.objects.get(pk=pk), _given(request)), "set-aside.csv")


class StoreView(APIView):
    @extend_schema(operation_id="store_upload", request=ChoicesSerializer, responses={202: JobSerializer})
    def post(self, request, pk: int) -> Response:
        """Put down the job that stores the file's rows, and scans them where asked."""
        job = looking.store(Upload.objects.get(pk=pk), _given(request), request.user)
        return Response(JobSerializer(job).data, status=202)


class KeptLayoutSerializer(serializers.ModelSerializer):
    data = serializers.DictField(child=serializers.JSONField(allow_null=True))
    facts = serializers.DictField(child=serializers.JSONField(allow_null=True))

    class Meta:
        model = KeptLayout
        fields = ["id", "name", "pattern", "data", "facts", "updated_at"]


class KeptLayoutsView(APIView):
    @extend_schema(
        operation_id="kept_layouts", parameters=paging.PARAMETERS, responses=paging.of(KeptLayoutSerializer)
    )
    def get(self, request) -> Response:
        """Layouts kept for files to come, the latest first."""
        return paging.rows(
            request,
            KeptLayout.objects.all(),
            lambda rows: KeptLayoutSerializer(rows, many=True).data,
            by="-updated_at",
        )


class KeptLayoutView(APIView):
    @extend_schema(operation_id="forget_layout", responses={204: None})
    def delete(self, request, pk: int) -> Response:
        KeptLayout.objects.get(pk=pk).delete()
        return Response(status=204)


class BatchSerializer(serializers.Serializer):
    id = serializers.IntegerField()
    source = serializers.CharField()
    door = serializers.ChoiceField(choices=DOORS)
    rows_taken = serializers.IntegerField()
    rows_aside = serializers.IntegerField()
    rows_dropped = serializers.IntegerField()
    streams = serializers.IntegerField()
    samples = serializers.IntegerField()
    created_by = serializers.CharField(source="created_by.username", allow_null=True, default=None)
    accepted_at = serializers.DateTimeField()
    undone_at = serializers.DateTimeField(allow_null=True)
    quarantined_at = serializers.DateTimeField(allow_null=True)
    quarantine_reason = serializers.CharField()
    can_undo = serializers.SerializerMethodField()

    def get_can_undo(self, batch: Batch) -> bool:
        if "now" not in self.context:
            self.context["now"] = moments.now()
        return undoing.can_undo(batch, self.context["now"])


class DoorSerializer(serializers.Serializer):
    """What came through one door from one source, all batches together."""

    source = serializers.CharField()
    door = serializers.ChoiceField(choices=DOORS)
    batches = serializers.IntegerField()
    samples = serializers.IntegerField()
    rows_aside = serializers.IntegerField()
    last = serializers.DateTimeField()


class BatchesView(APIView):
    @extend_schema(
        operation_id="batches",
        parameters=[*paging.PARAMETERS, OpenApiParameter("door", str, enum=[d for d, _ in DOORS])],
        responses=paging.of(BatchSerializer),
    )
    def get(self, request) -> Response:
        """Batches, the latest first; those of files unless another door is requested, and all that are in quarantine."""
        wanted = (
            Q(door=request.GET["door"])
            if "door" in request.GET
            else Q(door="file") | Q(quarantined_at__isnull=False)
        )
        found = Batch.objects.filter(wanted, accepted_at__isnull=False)
        found = found.select_related("created_by").defer("aside", "layout")
        return paging.rows(request, found, lambda rows: BatchSerializer(rows, many=True).data, usual=100)


class DoorsView(APIView):
    @extend_schema(operation_id="doors", parameters=paging.PARAMETERS, responses=paging.of(DoorSerializer))
    def get(self, request) -> Response:
        """Live sources: how much each has pushed, or had fetched, since its oldest batch that is still kept."""
        found = Batch.objects.filter(
            accepted_at__isnull=False, door__in=("push", "pull"), undone_at__isnull=True
        )
        rows = found.values("source", "door").annotate(
            batches=Count("pk"), total=Sum("samples"), aside_rows=Sum("rows_aside"), last=Max("accepted_at")
        )
        out = [{**r, "samples": r["total"], "rows_aside": r["aside_rows"]} for r in rows.order_by("-last")]
        return paging.parts(request, out, lambda part: DoorSerializer(part, many=True).data, usual=100)


class UndoView(APIView):
    @extend_schema(operation_id="undo_batch", request=None, responses={202: JobSerializer})
    def post(self, request, pk: int) -> Response:
        """Take a batch back: its samples go, and what it wrote over returns. A job does it."""
        batch = Batch.objects.get(pk=pk)
        undoing.check(batch)
        arguments = {"batch": pk, "who": trail.of(request)}
        title = f"Undo batch {pk}, {batch.source}"
        with transaction.atomic():
            job = jobs.enqueue("undo", title, arguments, user=request.user, about=pk)
        return Response(JobSerializer(job).data, status=202)


class BatchAsideView(APIView):
    @extend_schema(operation_id="batch_aside", responses={(200, "text/csv"): OpenApiTypes.STR})
    def get(self, request, pk: int) -> HttpResponse:
        """The rows a batch set aside, as CSV."""
        batch = Batch.objects.get(pk=pk)
        body = gzip.decompress(bytes(batch.aside)) if batch.aside else b"line,column,problem,row\n"
        return csv_answer(body, f"set-aside-{batch.pk}.csv")
