"""Incidents over REST: what is open and proposed, one of them in full, and what may be done with it."""

from typing import Any

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response
from rest_framework.views import APIView

from watchtide.server import paging, query, versions
from watchtide.server.incidents import services
from watchtide.server.incidents.models import APART, CLOSED, OPEN, STATES, Incident
from watchtide.server.logbook.api import EntrySerializer
from watchtide.server.problems import Problem
from watchtide.server.scans.api import FindingSerializer, VerdictSerializer


class IncidentRowSerializer(serializers.Serializer):
    id = serializers.IntegerField(allow_null=True, help_text="null while it is only proposed")
    finding = serializers.IntegerField(allow_null=True, help_text="its strongest finding")
    title = serializers.CharField()
    state = serializers.CharField(help_text="proposed, open, closed or apart")
    cause = serializers.CharField(allow_blank=True)
    taken_by = serializers.CharField(allow_blank=True)
    streams = serializers.IntegerField()
    metrics = serializers.ListField(child=serializers.CharField())
    findings = serializers.IntegerField()
    open = serializers.IntegerField(help_text="findings without a verdict")
    start = query.MomentField(allow_null=True)
    end = query.MomentField(allow_null=True)
    zone = serializers.CharField()
    score = serializers.FloatField(allow_null=True)
    by_chance = serializers.FloatField(
        allow_null=True,
        help_text="of what is proposed: groups like it to be expected by chance in the time looked at",
    )
    kind = serializers.CharField(allow_blank=True)
    direction = serializers.CharField(allow_blank=True)
    bad_side = serializers.CharField()


class BareSerializer(serializers.Serializer):
    stream = serializers.IntegerField()
    metric = serializers.CharField()
    title = serializers.CharField()
    start = query.MomentField()
    end = query.MomentField()


class ChangeSerializer(serializers.Serializer):
    action = serializers.CharField()
    content = serializers.DictField(child=serializers.JSONField())
    by = serializers.CharField()
    at = serializers.DateTimeField()


class IncidentSerializer(IncidentRowSerializer):
    note = serializers.CharField(allow_blank=True)
    created_by = serializers.CharField(allow_blank=True)
    created_at = serializers.DateTimeField(allow_null=True)
    shared = serializers.ListField(
        child=serializers.CharField(), help_text="name=value that all streams have"
    )
    fed_by = serializers.ListField(child=serializers.ListField(child=serializers.IntegerField()))
    members = FindingSerializer(many=True)
    bare = BareSerializer(many=True, help_text="spans that no finding of the standing scans touches any more")
    nearby = FindingSerializer(many=True, help_text="open findings within six hours that are not in it")
    entries = EntrySerializer(many=True)
    changes = ChangeSerializer(many=True)
    etag = serializers.CharField(help_text="of title, cause, note and state; send it back as If-Match")


class FindingIdsSerializer(serializers.Serializer):
    findings = serializers.ListField(child=serializers.IntegerField(), max_length=services.MOST_FINDINGS)


class MakeSerializer(FindingIdsSerializer):
    title = serializers.CharField(allow_blank=True, default="", max_length=200)
    state = serializers.ChoiceField(choices=[(s, s) for s in (OPEN, APART)], default=OPEN)


class IncidentsView(APIView):
    @extend_schema(
        operation_id="incidents",
        responses=paging.of(IncidentRowSerializer),
        parameters=[*paging.PARAMETERS, OpenApiParameter("state", str, enum=[OPEN, CLOSED, APART])],
    )
    def get(self, request) -> Response:
        """Incidents in a state; with the open ones those proposed."""
        state = request.GET.get("state", OPEN)
        if state not in dict(STATES):
            raise Problem(
                f"there is no state {state}", place="state", remedy=f"take one of: {', '.join(dict(STATES))}"
            )
        return paging.parts(request, services.listed(state), list)

    @extend_schema(operation_id="make_incident", request=MakeSerializer, responses={201: IncidentSerializer})
    def post(self, request) -> Response:
        """Put findings together; or, with the state apart, say that they are not one thing."""
        data = given(MakeSerializer, request)
        made = services.make(data["findings"], data["title"], who(request), state=data["state"])
        return _answer(services.detail(made.pk), 201)


class ProposalView(APIView):
    @extend_schema(operation_id="proposed_incident", responses=IncidentSerializer)
    def get(self, request, finding: int) -> Response:
        """What is proposed around an open finding."""
        return _answer(services.proposal(finding))


class IncidentChangeSerializer(serializers.Serializer):
    title = serializers.CharField(max_length=200, required=False)
    cause = serializers.CharField(allow_blank=True, max_length=500, required=False)
    note = serializers.CharField(allow_blank=True, max_length=10_000, required=False)
    state = serializers.ChoiceField(choices=[(s, s) for s in (OPEN, CLOSED, APART)], required=False)
    take = serializers.BooleanField(required=False)


def _tag(incident: Incident) -> str:
    return versions.tag_of(vars(incident), services.CHANGEABLE)


def _answer(row: dict[str, Any], status: int = 200) -> Response:
    tag = versions.tag_of(row, services.CHANGEABLE)
    entries = EntrySerializer(row["entries"], many=True).data
    return Response({**row, "entries": entries, "etag": tag}, status=status, headers={"ETag": tag})


class IncidentView(APIView):
    @extend_schema(operation_id="incident", responses=IncidentSerializer)
    def get(self, request, pk: int) -> Response:
        return _answer(services.detail(pk))

    @extend_schema(
        operation_id="change_incident", request=IncidentChangeSerializer, responses=IncidentSerializer
    )
    def patch(self, request, pk: int) -> Response:
        """Change its words or its state; take it, or let go of it."""
        data = given(IncidentChangeSerializer, request)
        if "take" in data:
            data["taken_by"] = who(request) if data.pop("take") else ""
        services.change(pk, data, who(request), lambda now: versions.check(request, _tag(now)))
        return _answer(services.detail(pk))


class PartsSerializer(FindingIdsSerializer):
    out = serializers.BooleanField(default=False)


class PartsView(APIView):
    @extend_schema(operation_id="put_in_incident", request=PartsSerializer, responses=IncidentSerializer)
    def post(self, request, pk: int) -> Response:
        """Put findings into an incident, or take them out."""
        data = given(PartsSerializer, request)
        move = services.take_out if data["out"] else services.put_in
        move(pk, data["findings"], who(request))
        return _answer(services.detail(pk))


class IncidentVerdictSerializer(VerdictSerializer):
    start = None
    end = None


class TakeBackSerializer(serializers.Serializer):
    entries = serializers.ListField(child=serializers.IntegerField(), max_length=services.MOST_FINDINGS)


class JudgedSerializer(serializers.Serializer):
    entries = serializers.ListField(child=serializers.IntegerField())


class IncidentVerdictView(APIView):
    @extend_schema(
        operation_id="judge_incident", request=IncidentVerdictSerializer, responses={201: JudgedSerializer}
    )
    def post(self, request, pk: int) -> Response:
        """The same verdict for each of its findings that has none."""
        entries = services.judge(pk, given(IncidentVerdictSerializer, request), who(request))
        return Response({"entries": [e.pk for e in entries]}, status=201)


class TakeBackView(APIView):
    @extend_schema(operation_id="take_back_verdict", request=TakeBackSerializer, responses=JudgedSerializer)
    def post(self, request, pk: int) -> Response:
        """Take the entries of such a verdict back."""
        ids = given(TakeBackSerializer, request)["entries"]
        return Response({"entries": services.unjudge(pk, ids, who(request))})


def given(kind: type[serializers.Serializer], request: Any) -> dict[str, Any]:
    given = kind(data=request.data)
    given.is_valid(raise_exception=True)
    return dict(given.validated_data)


def who(request: Any) -> str:
    return str(request.user.get_username())
