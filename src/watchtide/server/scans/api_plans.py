"""Plans over REST: their versions, what each changed, and where it stands."""

import difflib
from collections.abc import Sequence
from itertools import pairwise
from typing import Any

from django.db.models import Count
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.response import Response
from rest_framework.views import APIView

from watchtide.server import paging
from watchtide.server.scans.models import Finding, Plan, PlanVersion, Scan, ScanStream, Standing


class ChangedLineSerializer(serializers.Serializer):
    kind = serializers.ChoiceField(choices=[(k, k) for k in ("same", "added", "removed")])
    text = serializers.CharField(allow_blank=True, trim_whitespace=False)


class PlanVersionSerializer(serializers.Serializer):
    id = serializers.IntegerField()
    number = serializers.IntegerField()
    author = serializers.CharField(allow_blank=True)
    created_at = serializers.DateTimeField()
    text = serializers.CharField()
    stands_for = serializers.IntegerField(help_text="streams it stands for")
    scans = serializers.IntegerField()
    changes = ChangedLineSerializer(many=True, help_text="against the version before; empty for the first")


class PlanListSerializer(serializers.Serializer):
    id = serializers.IntegerField()
    name = serializers.CharField()
    versions = serializers.IntegerField()
    stands_for = serializers.IntegerField()


def changes(before: str, after: str) -> list[dict[str, str]]:
    """Lines that two texts share, and those only one has, in order."""
    names = {" ": "same", "+": "added", "-": "removed"}
    lines = difflib.Differ().compare(before.splitlines(), after.splitlines())
    return [{"kind": names[x[0]], "text": x[2:]} for x in lines if x[0] in names]


class PlansView(APIView):
    @extend_schema(
        operation_id="plans", parameters=paging.PARAMETERS, responses=paging.of(PlanListSerializer)
    )
    def get(self, request) -> Response:
        """All plans by name, with how many streams each stands for."""
        held = dict(Standing.objects.values_list("plan_version__plan").annotate(n=Count("pk")))
        found = Plan.objects.annotate(number=Count("versions"))

        def listed(rows: Sequence[Any]) -> list[dict[str, Any]]:
            return [
                {"id": p.pk, "name": p.name, "versions": p.number, "stands_for": held.get(p.pk, 0)}
                for p in rows
            ]

        return paging.rows(request, found, listed, by="name")


class PlanUseSerializer(serializers.Serializer):
    """A stream that a plan stands for, by which version and scan."""

    stream = serializers.IntegerField()
    metric = serializers.CharField()
    title = serializers.CharField()
    version = serializers.IntegerField()
    scan = serializers.IntegerField(allow_null=True)


class PlanUsesView(APIView):
    @extend_schema(
        operation_id="plan_uses", parameters=paging.PARAMETERS, responses=paging.of(PlanUseSerializer)
    )
    def get(self, request, pk: int) -> Response:
        """The streams that a plan stands for, by the names of their metrics and titles."""
        found = Standing.objects.filter(plan_version__plan=Plan.objects.get(pk=pk)).select_related(
            "stream", "plan_version"
        )
        return paging.parts(
            request,
            [
                {
                    "stream": s.stream_id, "metric": s.stream.metric, "title": s.stream.title,
                    "version": s.plan_version.number, "scan": s.scan_id,
                }
                for s in sorted(found, key=lambda s: (s.stream.metric, s.stream.title, s.stream_id))
            ],
            list,
        )  # fmt: skip


class AdoptionSerializer(serializers.Serializer):
    """What stands for some streams of a trial now, and what making the trial's plan stand for them would change."""

    scan = serializers.IntegerField(allow_null=True, help_text="that stands; null where none does")
    plan = serializers.CharField(allow_blank=True)
    version = serializers.IntegerField(allow_null=True)
    streams = serializers.ListField(child=serializers.IntegerField())
    findings = serializers.IntegerField(help_text="of the scan that stands, on these streams")
    findings_then = serializers.IntegerField()
    changes = ChangedLineSerializer(many=True, help_text="from the plan that stands to that of the trial")


class AdoptionView(APIView):
    @extend_schema(operation_id="adoption", responses=AdoptionSerializer(many=True))
    def get(self, request, pk: int) -> Response:
        """What adopting a trial would change, for each scan that stands for some of its streams now."""
        scan = Scan.objects.select_related("plan_version").get(pk=pk)
        streams = list(
            ScanStream.objects.filter(scan=scan).order_by("stream").values_list("stream", flat=True)
        )
        standing = dict(Standing.objects.filter(stream__in=streams).values_list("stream", "scan"))
        before = Scan.objects.select_related("plan_version__plan").in_bulk(
            {s for s in standing.values() if s is not None}
        )
        groups: dict[int | None, list[int]] = {}
        for stream in streams:
            groups.setdefault(standing.get(stream), []).append(stream)

        def found(of: int | None, some: list[int]) -> int:
            return 0 if of is None else Finding.objects.filter(scan=of, stream__in=some).count()

        return Response(
            [
                {
                    "scan": stands,
                    "plan": before[stands].plan_version.plan.name if stands else "",
                    "version": before[stands].plan_version.number if stands else None,
                    "streams": some,
                    "findings": found(stands, some),
                    "findings_then": found(pk, some),
                    "changes": changes(before[stands].plan_version.text, scan.plan_version.text)
                    if stands
                    else [],
                }
                for stands, some in groups.items()
                if stands != pk
            ]
        )


class PlanVersionsView(APIView):
    @extend_schema(
        operation_id="plan_versions", parameters=paging.PARAMETERS, responses=paging.of(PlanVersionSerializer)
    )
    def get(self, request, pk: int) -> Response:
        """The versions of a plan, newest first, each with its differences from the one before."""
        versions = list(PlanVersion.objects.filter(plan=Plan.objects.get(pk=pk)).order_by("number"))
        held = dict(
            Standing.objects.filter(plan_version__plan=pk).values_list("plan_version").annotate(n=Count("pk"))
        )
        scans = dict(
            Scan.objects.filter(plan_version__plan=pk).values_list("plan_version").annotate(n=Count("pk"))
        )
        told: list[list[dict[str, Any]]] = [[]] + [changes(a.text, b.text) for a, b in pairwise(versions)]
        return paging.parts(
            request,
            [
                {
                    "id": v.pk, "number": v.number, "author": v.author, "created_at": v.created_at, "text": v.text,
                    "stands_for": held.get(v.pk, 0), "scans": scans.get(v.pk, 0), "changes": lines,
                }
                for v, lines in reversed(list(zip(versions, told, strict=True)))
            ],
            list,
        )  # fmt: skip
