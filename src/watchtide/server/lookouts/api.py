"""Lookouts over REST: a plan kept running on the streams of a scope, and what it says of each."""

from typing import Any

import numpy as np
from django.db import transaction
from django.http import HttpResponse
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response
from rest_framework.views import APIView

from watchtide.engine.live import watching
from watchtide.server import moments, paging, query
from watchtide.server.jobs import api as jobs
from watchtide.server.lookouts import counting, feed, foreseeing, judging, rehearsing, services
from watchtide.server.lookouts.models import STATES, Lookout, Route, Watched
from watchtide.server.people import access, trail
from watchtide.server.problems import Problem
from watchtide.server.scans import services as scans
from watchtide.server.scans.models import PlanVersion
from watchtide.server.streams.corrections import IMPORTED, UNDONE
from watchtide.tables import results

LOOKOUTS = Lookout.objects.select_related("plan_version__plan").prefetch_related("routes")


class ScopeSerializer(serializers.Serializer):
    """Streams by name, or a query: streams that come later and match join by themselves."""

    metric = serializers.CharField(required=False, max_length=200, allow_blank=True)
    attributes = serializers.DictField(child=serializers.CharField(max_length=400), required=False)
    streams = serializers.ListField(
        child=serializers.IntegerField(min_value=1), required=False, max_length=services.MOST_STREAMS
    )


class NotifySerializer(serializers.Serializer):
    began = serializers.BooleanField(default=True)
    ended = serializers.BooleanField(default=True)
    silent = serializers.BooleanField(default=True)
    remind = serializers.CharField(default=None, allow_null=True, max_length=20)
    together = serializers.BooleanField(default=True)


class ForeseenLimitSerializer(serializers.Serializer):
    """A limit that is announced before it is reached: once, when half of the futures reach it within that time."""

    above = serializers.FloatField(required=False, allow_null=True, help_text="in the unit of the stream")
    below = serializers.FloatField(required=False, allow_null=True)
    within = serializers.CharField(default="24h", max_length=20)

    def to_representation(self, data: Any) -> dict[str, Any]:
        return {k: v for k, v in dict(data).items() if v is not None}


class RoutesField(serializers.ListField):
    """Numbers of routes."""

    child = serializers.IntegerField()
    max_length = 100

    def to_representation(self, data: Any) -> list[int]:
        return sorted(route.pk for route in data.all())


class LookoutSerializer(serializers.Serializer):
    id = serializers.IntegerField(read_only=True)
    name = serializers.CharField(max_length=120)
    plan = serializers.JSONField(
        write_only=True, help_text='the plan as text, or {"version": ID} for one that is kept'
    )
    plan_name = serializers.CharField(source="plan_version.plan.name", read_only=True)
    plan_version = serializers.IntegerField(source="plan_version.number", read_only=True)
    version = serializers.IntegerField(source="plan_version_id", read_only=True)
    scope = ScopeSerializer()
    every = serializers.CharField(default="auto", max_length=20, help_text="auto: with each bin")
    wait = serializers.CharField(
        default="auto", max_length=20, help_text="after a bin's end; auto: the usual lateness"
    )
    skip_last = serializers.IntegerField(default=0, min_value=0, max_value=100_000)
    routes = RoutesField(default=list)
    notify = NotifySerializer(default=dict)
    limit = ForeseenLimitSerializer(default=dict, help_text="what is foreseen; without above and below, none")
    on = serializers.BooleanField(default=True, source="is_on")
    states = serializers.DictField(
        child=serializers.IntegerField(), read_only=True, help_text="how many streams are in which state"
    )
    looked_at = serializers.DateTimeField(read_only=True, allow_null=True)
    created_by = serializers.CharField(read_only=True)
    created_at = serializers.DateTimeField(read_only=True)

    def validate_routes(self, routes: list[int]) -> list[int]:
        known = set(Route.objects.filter(pk__in=routes).values_list("pk", flat=True))
        if missing := [pk for pk in routes if pk not in known]:
            raise serializers.ValidationError(f"there is no route {missing[0]}; see /api/v1/routes")
        return routes


def _one(pk: int) -> Response:
    return Response(LookoutSerializer(services.counted([LOOKOUTS.get(pk=pk)])[0]).data)


def _limit(given: dict[str, Any], version: PlanVersion) -> dict[str, Any]:
    """A limit, checked against the plan that is to foresee it."""
    limit = foreseeing.checked(dict(given), scans.plan_of(version.text))
    if limit:
        services.checked_duration(limit["within"], "limit.within")
    return limit


def _facts(data: dict[str, Any], before: dict[str, Any]) -> dict[str, Any]:
    """What is given of a lookout, checked, as its row holds it. before : what it announces now."""
    out = {k: data[k] for k in ("skip_last", "is_on") if k in data}
    if "scope" in data:
        out["scope"] = services.checked_scope(data["scope"])
    for name in ("every", "wait"):
        if name in data:
            out[name] = data[name] if data[name] == "auto" else services.checked_duration(data[name], name)
    if "notify" in data:
        out["notify"] = before | dict(data["notify"])
        if (remind := out["notify"]["remind"]) is not None:
            services.checked_duration(remind, "notify.remind")
    return out


class LookoutsView(APIView):
    @extend_schema(
        operation_id="lookouts", parameters=paging.PARAMETERS, responses=paging.of(LookoutSerializer)
    )
    def get(self, request) -> Response:
        """Plans that are kept running, by name."""

        def listed(rows: Any) -> Any:
            return LookoutSerializer(services.counted(rows), many=True).data

        return paging.rows(request, LOOKOUTS.all(), listed, by="name")

    @extend_schema(operation_id="make_lookout", request=LookoutSerializer, responses={201: LookoutSerializer})
    def post(self, request) -> Response:
        """Keep a plan running on the streams of a scope."""
        given = LookoutSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        data = given.validated_data
        by = request.user.get_username()
        facts = _facts(data, services.NOTIFY)
        version = services.version_of(data["plan"], data["name"], by)
        facts["limit"] = _limit(data["limit"], version)
        made = services.make(data["name"], version, by, data["routes"], **facts)
        trail.note(request, "lookout made", made.name)
        if made.is_on:
            services.request(made)
        answer = _one(made.pk)
        answer.status_code = 201
        return answer


class LookoutView(APIView):
    @extend_schema(operation_id="lookout", responses=LookoutSerializer)
    def get(self, request, pk: int) -> Response:
        return _one(pk)

    @extend_schema(operation_id="change_lookout", request=LookoutSerializer, responses=LookoutSerializer)
    def patch(self, request, pk: int) -> Response:
        """Change a lookout. With another plan or scope it begins anew; switched on again, it goes on."""
        given = LookoutSerializer(data=request.data, partial=True)
        given.is_valid(raise_exception=True)
        data = given.validated_data
        with transaction.atomic():
            lookout = Lookout.objects.select_for_update().get(pk=pk)
            changes = _facts(data, services.NOTIFY | lookout.notify)
            if "name" in data:
                changes["name"] = data["name"]
            if "plan" in data:
                by = request.user.get_username()
                changes["plan_version"] = services.version_of(data["plan"], lookout.name, by)
            if "limit" in data or "plan" in data:
                version = changes.get("plan_version", lookout.plan_version)
                changes["limit"] = _limit(data.get("limit", lookout.limit), version)
                if changes["limit"] != lookout.limit:
                    lookout.watched.update(foreseen_through_ns=None, foreseen_ns=None)
            anew = [
                n for n in ("plan_version", "scope") if n in changes and changes[n] != getattr(lookout, n)
            ]
            for name, value in changes.items():
                setattr(lookout, name, value)
            lookout.looked_at = None
            lookout.save()
            if "routes" in data:
                lookout.routes.set(data["routes"])
            if anew:
                services.begin_anew(lookout)
            # Another wait makes other bins complete.
            lookout.watched.update(next_ns=None)
            trail.note(request, "lookout changed", lookout.name)
        if lookout.is_on:
            services.request(lookout)
        return _one(pk)

    @extend_schema(operation_id="delete_lookout", responses={204: None})
    def delete(self, request, pk: int) -> Response:
        """End a lookout, with its findings."""
        lookout = Lookout.objects.get(pk=pk)
        lookout.delete()
        trail.note(request, "lookout ended", lookout.name)
        return Response(status=204)


class WatchedSerializer(serializers.Serializer):
    stream = serializers.IntegerField(source="stream_id")
    metric = serializers.CharField(source="stream.metric")
    title = serializers.CharField(source="stream.title")
    key = serializers.CharField(source="stream.key")
    zone = serializers.CharField(source="stream.zone")
    state = serializers.ChoiceField(choices=STATES)
    since = serializers.DateTimeField()
    why = serializers.CharField(allow_blank=True)
    needs = serializers.CharField(allow_blank=True, help_text="what is missing, while learning")
    judged_through = query.MomentField(allow_null=True, help_text="end of the newest bin that was judged")
    expected_next = query.MomentField(allow_null=True, help_text="when the next bin can be judged")
    findings = serializers.IntegerField()
    foreseen = query.MomentField(
        allow_null=True, help_text="when the limit is reached, as half of the futures say"
    )
    late = serializers.IntegerField(help_text="samples that came after their bin was judged")


class LookoutStreamsView(APIView):
    @extend_schema(
        operation_id="lookout_streams",
        parameters=[*paging.PARAMETERS, OpenApiParameter("state", enum=[s for s, _ in STATES])],
        responses=paging.of(WatchedSerializer),
    )
    def get(self, request, pk: int) -> Response:
        """The streams of a lookout: where each stands, since when, and why."""
        found = Lookout.objects.get(pk=pk).watched.select_related("stream").defer("upkeep")
        if state := query.choice(request, "state", [s for s, _ in STATES]):
            found = found.filter(state=state)

        def listed(rows: Any) -> Any:
            for w in rows:
                w.judged_through, w.expected_next = moments.at(w.judged_through_ns), moments.at(w.next_ns)
                w.findings, w.foreseen = len(w.findings), moments.at(w.foreseen_ns)
            return WatchedSerializer(rows, many=True).data

        return paging.rows(request, found, listed, by="pk")


class LookoutFindingsView(APIView):
    @extend_schema(operation_id="lookout_findings", responses={(200, "text/csv"): OpenApiTypes.STR})
    def get(self, request, pk: int) -> HttpResponse:
        """What was raised, as `watchtide scan --mode replay` writes it."""
        rows = Lookout.objects.get(pk=pk).watched.values_list("findings", flat=True)
        found = [watching.as_finding(f) for row in rows for f in row]
        found.sort(key=lambda f: (f.start, f.series, f.kind))
        return _file(results.findings_text(found), f"findings-lookout-{pk}.csv")


class LookoutPointsView(APIView):
    @extend_schema(
        operation_id="lookout_points",
        parameters=[OpenApiParameter("stream", int, required=True)],
        responses={(200, "text/csv"): OpenApiTypes.STR},
    )
    def get(self, request, pk: int) -> HttpResponse:
        """The points of one stream from the first judged sample on, as `watchtide scan --mode replay` writes them."""
        stream = query.required(request, "stream", least=1)
        watched = (
            Watched.objects.select_related("stream", "lookout__plan_version")
            .filter(lookout=Lookout.objects.get(pk=pk), stream=stream)
            .first()
        )
        if watched is None:
            raise Problem(
                "this lookout does not watch that stream", place="stream", remedy="see its streams", code=404
            )
        scanned = judging.rejudged(watched)
        if scanned is None:
            body = results.table_bytes(results.points_table({}), "points.csv").decode()
        else:
            judged = np.flatnonzero(~np.isnan(scanned.base.expected))
            first = scanned.base.series.times[judged[0]] if len(judged) else watched.judged_through_ns
            body = judging.points_csv(scanned, watched.stream.key, int(first))
        return _file(body, f"points-lookout-{pk}-{stream}.csv")


class WantedSerializer(serializers.Serializer):
    weeks = serializers.IntegerField(min_value=1, max_value=rehearsing.MOST_WEEKS)
    plan = serializers.CharField(
        required=False,
        allow_null=True,
        default=None,
        max_length=100_000,
        help_text="another plan than its own",
    )


class RehearsalView(APIView):
    @extend_schema(operation_id="rehearsals", responses=jobs.PAGE, parameters=paging.PARAMETERS)
    def get(self, request, pk: int) -> Response:
        """The latest rehearsals of a lookout; each job's result says what it would have raised and sent."""
        found = rehearsing.latest(Lookout.objects.get(pk=pk))

        def listed(rows: Any) -> Any:
            return jobs.JobSerializer(rows, many=True).data

        return paging.parts(request, found, listed)

    @extend_schema(operation_id="rehearse", request=WantedSerializer, responses={202: jobs.JobSerializer})
    def post(self, request, pk: int) -> Response:
        """Replay the past weeks as if live, in a job: what would have been raised and sent, against the logbook."""
        given = WantedSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        data = given.validated_data
        job = rehearsing.request(Lookout.objects.get(pk=pk), data["weeks"], data["plan"], request.user)
        return Response(jobs.JobSerializer(job).data, status=202)


class SentSerializer(serializers.Serializer):
    """What became of the notices of a lookout."""

    sent = serializers.IntegerField(help_text="of the latest 2,000, one an incident")
    real = serializers.IntegerField()
    not_real = serializers.IntegerField()
    left_out = serializers.IntegerField(help_text="unsure")
    open = serializers.IntegerField(help_text="without a verdict")
    precision = serializers.FloatField(allow_null=True)
    precision_ci = serializers.ListField(child=serializers.FloatField(), allow_null=True)
    opened = serializers.IntegerField(help_text="of which a link was opened")
    opened_after_s = serializers.FloatField(allow_null=True, help_text="median time until then, in seconds")


class LookoutPrecisionView(APIView):
    @extend_schema(operation_id="lookout_precision", responses=SentSerializer)
    def get(self, request, pk: int) -> Response:
        """Precision of what a lookout has sent, by the logbook, and how soon somebody looked."""
        return Response(counting.of(Lookout.objects.get(pk=pk)))


class LookoutFeedView(APIView):
    authentication_classes = (access.Session, access.Bearer, access.InAddress)

    @extend_schema(
        operation_id="lookout_feed",
        parameters=[
            OpenApiParameter("token", str, description="a token that may read, where there is no session")
        ],
        responses={(200, "application/atom+xml"): OpenApiTypes.STR},
    )
    def get(self, request, pk: int) -> HttpResponse:
        """The latest notices of a lookout, as an Atom feed."""
        answer = HttpResponse(feed.atom(Lookout.objects.get(pk=pk)), content_type=feed.CONTENT_TYPE)
        # The token stands in the address.
        answer["Referrer-Policy"] = "no-referrer"
        return answer


class FoundSerializer(serializers.Serializer):
    """A finding that a correction has brought, changed or taken away."""

    start = query.MomentField()
    end = query.MomentField()
    kind = serializers.CharField()
    direction = serializers.CharField(allow_blank=True)
    score = serializers.FloatField(allow_null=True)
    raised = query.MomentField(allow_null=True)


class PairSerializer(serializers.Serializer):
    before = FoundSerializer()
    now = FoundSerializer()


class CorrectionSerializer(serializers.Serializer):
    """History that was corrected behind what a lookout had judged, and what judging it anew has changed."""

    id = serializers.IntegerField()
    stream = serializers.IntegerField(source="stream_id")
    metric = serializers.CharField(source="stream.metric")
    title = serializers.CharField(source="stream.title")
    zone = serializers.CharField(source="stream.zone")
    why = serializers.ChoiceField(choices=[(w, w) for w in (IMPORTED, UNDONE)])
    batch = serializers.IntegerField(source="batch_id")
    source = serializers.CharField(source="batch.source", help_text="of the batch")
    since = query.MomentField(help_text="the first stamp that may have changed")
    noted_at = serializers.DateTimeField()
    judged_at = serializers.DateTimeField(allow_null=True)
    gone = FoundSerializer(many=True)
    come = FoundSerializer(many=True)
    changed = PairSerializer(many=True)


class LookoutCorrectionsView(APIView):
    @extend_schema(
        operation_id="lookout_corrections",
        parameters=paging.PARAMETERS,
        responses=paging.of(CorrectionSerializer),
    )
    def get(self, request, pk: int) -> Response:
        """Corrected history of a lookout's streams and what that changed, the latest first. Nothing of it was sent."""
        found = Lookout.objects.get(pk=pk).corrections.select_related("stream", "batch")

        def listed(rows: Any) -> Any:
            for r in rows:
                r.since = moments.at(r.since_ns)
                r.gone, r.come = [[_found(f) for f in some] for some in (r.gone, r.come)]
                r.changed = [{"before": _found(a), "now": _found(b)} for a, b in r.changed]
            return CorrectionSerializer(rows, many=True).data

        return paging.rows(request, found, listed, by="-pk")


def _found(finding: dict[str, Any]) -> dict[str, Any]:
    return finding | {name: moments.at(finding[name]) for name in ("start", "end", "raised")}


def _file(body: str, name: str) -> HttpResponse:
    answer = HttpResponse(body, content_type="text/csv; charset=utf-8")
    answer["Content-Disposition"] = f'attachment; filename="{name}"'
    return answer
