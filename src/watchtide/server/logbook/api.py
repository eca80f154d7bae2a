"""The logbook over REST: list, write, import, export."""

from collections.abc import Sequence
from typing import Any

from django.db import transaction
from django.db.models import F, QuerySet
from django.http import HttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.parsers import MultiPartParser
from rest_framework.response import Response
from rest_framework.views import APIView

from watchtide.server import moments, paging, query, versions
from watchtide.server.logbook import services, tasks
from watchtide.server.logbook.models import ORIGIN_CHOICES, VERDICT_CHOICES, ChangeSet, Entry, Quiet, Revision
from watchtide.server.negotiation import FiniteJson
from watchtide.server.problems import Problem
from watchtide.server.streams.models import Stream
from watchtide.tables import clock, labels

MOST_SHOWN, MOST_LANES = 500, 14


EDITED = ("scope", "start", "end", "verdict", "kind", "cause", "note", "origin")


class EntrySerializer(versions.Tagged):
    id = serializers.IntegerField(read_only=True)
    scope = serializers.CharField(allow_blank=True, default="", max_length=2000)
    start = query.MomentField(source="start_ns")
    end = query.MomentField(source="end_ns")
    verdict = serializers.ChoiceField(choices=VERDICT_CHOICES)
    kind = serializers.CharField(allow_blank=True, default="", max_length=80)
    cause = serializers.CharField(allow_blank=True, default="", max_length=500)
    note = serializers.CharField(allow_blank=True, default="", max_length=10_000)
    author = serializers.CharField(read_only=True)
    origin = serializers.ChoiceField(choices=ORIGIN_CHOICES, default="independent")
    created_at = serializers.DateTimeField(read_only=True)

    def edited(self) -> Sequence[str]:
        return EDITED


class TakingInSerializer(serializers.Serializer):
    job = serializers.IntegerField()


class TakenInSerializer(serializers.Serializer):
    added = serializers.IntegerField()
    skipped = serializers.IntegerField()
    changed = serializers.IntegerField()
    change_set = serializers.IntegerField(allow_null=True, help_text="to undo it by")


FILTER = [
    OpenApiParameter("stream", int, description="entries that cover this stream"), OpenApiParameter("verdict", str),
    OpenApiParameter("text", str, description="words, all of which must be in cause, note, scope, kind or author"),
    OpenApiParameter("origin", str), *query.SPAN,
]  # fmt: skip


def matching(request) -> QuerySet[Entry]:
    """The entries that fit a request's filter."""
    pk = query.whole(request, "stream")
    return services.found(
        verdict=request.GET.get("verdict", ""), text=request.GET.get("text", ""), origin=request.GET.get("origin", ""),
        stream=Stream.objects.values_list("key", flat=True).get(pk=pk) if pk else None,
        begin_ns=query.moment(request, "from"), end_ns=query.moment(request, "to"),
    )  # fmt: skip


class EntriesView(APIView):
    @extend_schema(
        operation_id="entries",
        parameters=[*FILTER, *paging.PARAMETERS],
        responses=paging.of(
            EntrySerializer, total=serializers.IntegerField(), version=serializers.IntegerField()
        ),
    )
    def get(self, request) -> Response:
        """Live entries that fit, latest start first."""
        found = matching(request)
        return paging.rows(
            request,
            found,
            lambda rows: EntrySerializer(rows, many=True).data,
            by="-start_ns",
            total=found.count(),
            version=services.version(),
        )

    @extend_schema(operation_id="add_entry", request=EntrySerializer, responses={201: EntrySerializer})
    def post(self, request) -> Response:
        given = EntrySerializer(data=request.data)
        given.is_valid(raise_exception=True)
        return Response(
            EntrySerializer(services.add(given.validated_data, request.user.get_username())).data, status=201
        )


def _answer(entry: Entry) -> Response:
    data = EntrySerializer(entry).data
    return Response(data, headers={"ETag": data["etag"]})


class EntryView(APIView):
    @extend_schema(operation_id="entry", responses=EntrySerializer)
    def get(self, request, pk: int) -> Response:
        return _answer(services.live().get(pk=pk))

    @extend_schema(operation_id="change_entry", request=EntrySerializer, responses=EntrySerializer)
    def patch(self, request, pk: int) -> Response:
        """Change an entry. With `If-Match` (the ETag of what was read), only that version of it: 412 otherwise."""
        given = EntrySerializer(data=request.data, partial=True)
        given.is_valid(raise_exception=True)
        with transaction.atomic():
            entry = services.live().select_for_update().get(pk=pk)
            versions.check(request, EntrySerializer(entry).data["etag"])
            entry = services.change(entry, given.validated_data, request.user.get_username())
        return _answer(entry)

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
    @extend_schema(
        operation_id="revisions", parameters=paging.PARAMETERS, responses=paging.of(RevisionSerializer)
    )
    def get(self, request, pk: int) -> Response:
        """What an entry was, newest first; of one that was taken out, too. Nothing here can be rewritten."""
        return paging.parts(
            request,
            list(services.history(Entry.objects.get(pk=pk))),
            lambda rows: RevisionSerializer(rows, many=True).data,
        )


class ReturnView(APIView):
    @extend_schema(operation_id="return_entry", request=None, responses=EntrySerializer)
    def post(self, request, pk: int, revision: int) -> Response:
        """Make an entry again what it was at a revision."""
        entry = services.return_to(
            Entry.objects.get(pk=pk), Revision.objects.get(pk=revision), request.user.get_username()
        )
        return Response(EntrySerializer(entry).data)


class MatchSerializer(serializers.Serializer):
    """A row of a file: new, same (stands there already), or changes (an entry it is about)."""

    number = serializers.IntegerField(help_text="of the row, from 1")
    state = serializers.ChoiceField(choices=[(x, x) for x in ("new", "same", "changes")])
    scope = serializers.CharField(allow_blank=True)
    start = query.MomentField()
    end = query.MomentField()
    verdict = serializers.CharField()
    cause = serializers.CharField(allow_blank=True)
    note = serializers.CharField(allow_blank=True)
    entry = serializers.IntegerField(allow_null=True)
    changed = FieldChangeSerializer(many=True)


class LookSerializer(serializers.Serializer):
    new = serializers.IntegerField()
    same = serializers.IntegerField()
    changes = serializers.IntegerField()
    rows = MatchSerializer(many=True, help_text="what is new or changes, 500 at most")


def labels_of(request) -> tuple[str, list[Any]]:
    """Name and labels of the file that was sent. Problem, with line and remedy, where it cannot be read."""
    file = request.FILES.get("file")
    if file is None:
        raise Problem("no file was sent", place="file", remedy="choose a labels file")
    if file.size > labels.MOST_BYTES:
        raise Problem(
            f"the labels file is larger than {labels.MOST_BYTES >> 20} MB",
            place=file.name,
            remedy="split it",
            code=413,
        )
    zone = query.fields(request).get("zone") or "UTC"
    clock.zone(zone)
    return file.name, labels.read_labels(file.read(), file.name, zone=zone)


SENT = {
    "multipart/form-data": {
        "type": "object",
        "properties": {
            "file": {"type": "string", "format": "binary"},
            "zone": {"type": "string", "description": "of stamps without one"},
            "matches": {"type": "string", "enum": ["skip", "change", "add"]},
        },
    }
}


class LookView(APIView):
    parser_classes = [MultiPartParser]

    @extend_schema(operation_id="look_at_entries", request=SENT, responses=LookSerializer)
    def post(self, request) -> Response:
        """What a labels file would do to the logbook; nothing is stored."""
        _, rows = labels_of(request)
        found = services.matched(rows)
        shown = [(i, m) for i, m in enumerate(found, start=1) if m.state != "same"][:MOST_SHOWN]
        counts = {state: sum(m.state == state for m in found) for state in ("new", "same", "changes")}
        return Response({**counts, "rows": [_match_row(i, m) for i, m in shown]})


def _match_row(number: int, m: services.Match) -> dict[str, Any]:
    changed = []
    if m.state == "changes" and m.entry is not None:
        after = services.fields(m.label)
        changed = FieldChangeSerializer(
            [
                {"name": k, "before": getattr(m.entry, k), "after": v}
                for k, v in after.items()
                if getattr(m.entry, k) != v
            ],
            many=True,
        ).data
    return {
        "number": number, "state": m.state, "scope": m.label.series, "start": moments.at(m.label.start),
        "end": moments.at(m.label.end), "verdict": m.label.verdict, "cause": m.label.cause,
        "note": m.label.note, "entry": m.entry.pk if m.entry is not None else None, "changed": changed,
    }  # fmt: skip


class ImportView(APIView):
    parser_classes = [MultiPartParser, FiniteJson]

    @extend_schema(
        operation_id="import_entries",
        request=SENT,
        responses={200: TakenInSerializer, 202: TakingInSerializer},
    )
    def post(self, request) -> Response:
        """Take in a labels file, all of it or nothing. matches : what becomes of rows that are about an entry.

        More than 2,000 rows are taken in by a job (202), whose result is the same.
        """
        matches = query.fields(request).get("matches") or "skip"
        if matches not in ("skip", "change", "add"):
            raise Problem(f"matches cannot be {matches!r}", place="matches", remedy="skip, change or add")
        name, rows = labels_of(request)
        if (job := tasks.pending(rows, name, matches, request.user)) is not None:
            return Response({"job": job.pk}, status=202)
        done = services.take_in(rows, request.user.get_username(), title=name, matches=matches)
        return Response(tasks.result_of(*done))


KINDS = {"csv": "text/csv; charset=utf-8", "json": "application/json", "ics": "text/calendar; charset=utf-8"}


class ExportView(APIView):
    @extend_schema(
        operation_id="export_entries",
        responses={(200, "text/csv"): OpenApiTypes.STR},
        parameters=[OpenApiParameter("kind", str, enum=list(KINDS)), *FILTER],
    )
    def get(self, request) -> HttpResponse:
        """The entries that fit as csv, json or ics; all of them come back the same when they are read in."""
        kind = request.GET.get("kind") or "csv"
        if kind not in KINDS:
            raise Problem(f"entries do not come as {kind}", place="kind", remedy=f"one of {', '.join(KINDS)}")
        rows = [services.as_label(e) for e in matching(request).order_by("pk")]
        response = HttpResponse(labels.to_text(rows, f"logbook.{kind}"), content_type=KINDS[kind])
        response["Content-Disposition"] = f'attachment; filename="logbook.{kind}"'
        return response


class BulkSerializer(serializers.Serializer):
    """Which entries, and what they are to be; `take_out` takes them out instead."""

    entries = serializers.ListField(child=serializers.IntegerField(), min_length=1, max_length=5_000)
    verdict = serializers.ChoiceField(choices=VERDICT_CHOICES, required=False)
    kind = serializers.CharField(allow_blank=True, max_length=80, required=False)
    cause = serializers.CharField(allow_blank=True, max_length=500, required=False)
    note = serializers.CharField(allow_blank=True, max_length=10_000, required=False)
    scope = serializers.CharField(allow_blank=True, max_length=2000, required=False)
    take_out = serializers.BooleanField(default=False)


class ChangeSetSerializer(serializers.Serializer):
    id = serializers.IntegerField()
    title = serializers.CharField()
    added = serializers.IntegerField()
    changed = serializers.IntegerField()
    removed = serializers.IntegerField()
    by = serializers.CharField()
    at = serializers.DateTimeField()
    undone_by = serializers.CharField(allow_blank=True)
    undone_at = serializers.DateTimeField(allow_null=True)


class BulkView(APIView):
    @extend_schema(operation_id="change_entries", request=BulkSerializer, responses=ChangeSetSerializer)
    def post(self, request) -> Response:
        """Change many entries in one go, all of them or none."""
        given = BulkSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        data = dict(given.validated_data)
        wanted, take_out = set(data.pop("entries")), data.pop("take_out")
        entries = list(services.live().filter(pk__in=wanted))
        if len(entries) != len(wanted):
            raise Problem(
                f"{len(wanted) - len(entries)} of the entries are not there",
                place="entries",
                remedy="reload the page",
                code=409,
            )
        if take_out == bool(data):
            raise Problem(
                "nothing to change", place="entries", remedy="say what they are to be, or take them out"
            )
        by = request.user.get_username()
        done = services.take_out_all(entries, by) if take_out else services.change_all(entries, data, by)
        return Response(ChangeSetSerializer(done).data)


class ChangeSetsView(APIView):
    @extend_schema(
        operation_id="change_sets", parameters=paging.PARAMETERS, responses=paging.of(ChangeSetSerializer)
    )
    def get(self, request) -> Response:
        """What was changed in one go lately, newest first."""
        return paging.rows(
            request, ChangeSet.objects.all(), lambda rows: ChangeSetSerializer(rows, many=True).data, usual=20
        )


class UndoneSerializer(serializers.Serializer):
    undone = serializers.IntegerField()
    left = serializers.IntegerField(help_text="changed again since, and left as they are")


class UndoChangeSetView(APIView):
    @extend_schema(operation_id="undo_change_set", request=None, responses=UndoneSerializer)
    def post(self, request, pk: int) -> Response:
        """Make the entries what they were before a change; those changed again since stay as they are."""
        undone, left = services.undo(ChangeSet.objects.get(pk=pk), request.user.get_username())
        return Response({"undone": undone, "left": left})


class BarSerializer(serializers.Serializer):
    id = serializers.IntegerField()
    start = query.MomentField()
    end = query.MomentField()
    verdict = serializers.CharField()


class LaneSerializer(serializers.Serializer):
    """Entries of one scope, the first 500."""

    scope = serializers.CharField(allow_blank=True)
    count = serializers.IntegerField()
    entries = BarSerializer(many=True)


class LanesSerializer(serializers.Serializer):
    lanes = LaneSerializer(many=True)
    others = serializers.IntegerField(help_text="entries of further scopes that are not shown")
    first = query.MomentField(allow_null=True)
    last = query.MomentField(allow_null=True)


class LanesView(APIView):
    @extend_schema(operation_id="lanes", parameters=FILTER, responses=LanesSerializer)
    def get(self, request) -> Response:
        """The entries that fit over time, a lane for each scope, those with most entries first."""
        rows = (
            matching(request)
            .order_by("start_ns", "pk")
            .values_list("scope", "pk", "start_ns", "end_ns", "verdict")
        )
        by_scope: dict[str, list[dict[str, Any]]] = {}
        for scope, pk, start, end, verdict in rows:
            by_scope.setdefault(scope, []).append(
                {"id": pk, "start": moments.at(start), "end": moments.at(end), "verdict": verdict}
            )
        ordered = sorted(by_scope.items(), key=lambda kv: (-len(kv[1]), kv[0]))
        shown = ordered[:MOST_LANES]
        whole_of = [e for _, own in ordered for e in own]
        return Response(
            {
                "lanes": [{"scope": s, "count": len(own), "entries": own[:MOST_SHOWN]} for s, own in shown],
                "others": sum(len(own) for _, own in ordered[MOST_LANES:]),
                "first": min((e["start"] for e in whole_of), default=None),
                "last": max((e["end"] for e in whole_of), default=None),
            }
        )


class QuietSerializer(serializers.Serializer):
    id = serializers.IntegerField(read_only=True)
    scope = serializers.CharField(allow_blank=True, default="", max_length=2000)
    start = query.MomentField(source="start_ns", required=False)
    end = query.MomentField(source="end_ns")
    reason = serializers.CharField(max_length=500)
    by = serializers.CharField(read_only=True)
    at = serializers.DateTimeField(read_only=True)
    ended_by = serializers.CharField(read_only=True)


class QuietsView(APIView):
    @extend_schema(operation_id="quiets", parameters=paging.PARAMETERS, responses=paging.of(QuietSerializer))
    def get(self, request) -> Response:
        """Planned work, the latest end first."""
        found = Quiet.objects.filter(end_ns__gte=F("start_ns"))
        return paging.rows(request, found, lambda rows: QuietSerializer(rows, many=True).data, by="-end_ns")

    @extend_schema(operation_id="make_quiet", request=QuietSerializer, responses={201: QuietSerializer})
    def post(self, request) -> Response:
        """Note planned work, from now unless a start is given: findings are kept, marked, and left out of figures."""
        given = QuietSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        data = {"start_ns": moments.now_ns(), **given.validated_data}
        row = services.make_quiet(**data, by=request.user.get_username())
        return Response(QuietSerializer(row).data, status=201)


class QuietView(APIView):
    @extend_schema(operation_id="end_quiet", responses={204: None})
    def delete(self, request, pk: int) -> Response:
        """End planned work now; what has not begun, or is over, is taken away: it was noted by mistake."""
        services.end_quiet(Quiet.objects.get(pk=pk), moments.now_ns(), request.user.get_username())
        return Response(status=204)
