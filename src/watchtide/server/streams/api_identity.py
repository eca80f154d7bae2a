"""Identity rules over REST: which attributes distinguish pushed streams, what a change would do, and its undo."""

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.response import Response
from rest_framework.views import APIView

from watchtide.server import query
from watchtide.server.jobs.api import JobSerializer
from watchtide.server.streams import identity as service
from watchtide.server.streams import places
from watchtide.server.streams.models import IdentityVersion
from watchtide.tables import identity

MOST_VERSIONS = 20


class IdentityRuleSerializer(serializers.Serializer):
    metric = serializers.CharField(help_text="a metric, with * for any characters")
    keep = serializers.ListField(child=serializers.CharField())
    drop = serializers.ListField(child=serializers.CharField())
    rename = serializers.ListField(child=serializers.ListField(child=serializers.CharField()))
    join = serializers.ChoiceField(choices=identity.JOINS)
    note = serializers.CharField(allow_blank=True)


class IdentityRulesSerializer(serializers.Serializer):
    rules = IdentityRuleSerializer(many=True)


class IdentityVersionSerializer(serializers.ModelSerializer):
    by = serializers.CharField(source="created_by.username", default="")
    streams = serializers.IntegerField(source="moved", help_text="how many series it moved to another stream")
    can_undo = serializers.SerializerMethodField()

    class Meta:
        model = IdentityVersion
        fields = ["id", "by", "created_at", "undone_at", "streams", "can_undo"]

    def get_can_undo(self, version: IdentityVersion) -> bool:
        return version.pk == self.context.get("newest")


class IdentitySerializer(serializers.Serializer):
    rules = IdentityRuleSerializer(many=True)
    is_default = serializers.BooleanField()
    versions = IdentityVersionSerializer(many=True)


class JoinedStreamSerializer(serializers.Serializer):
    key = serializers.CharField()
    metric = serializers.CharField()
    attributes = serializers.ListField(child=serializers.ListField(child=serializers.CharField()))
    join = serializers.CharField()
    sources = serializers.ListField(child=serializers.CharField())
    source_count = serializers.IntegerField()
    was = serializers.ListField(child=serializers.CharField())
    is_merged = serializers.BooleanField()
    is_new = serializers.BooleanField()
    units = serializers.ListField(child=serializers.CharField())


class IdentityEffectSerializer(serializers.Serializer):
    before = serializers.IntegerField()
    after = serializers.IntegerField()
    merged = serializers.IntegerField()
    streams = JoinedStreamSerializer(many=True)
    problems = serializers.ListField(child=serializers.CharField())
    messages = serializers.IntegerField()
    is_part = serializers.BooleanField()


class PutInForceSerializer(serializers.Serializer):
    version = IdentityVersionSerializer()
    job = JobSerializer()


def _newest() -> int | None:
    version = places.newest()
    return None if version is None else version.pk


def _version(version: IdentityVersion) -> IdentityVersionSerializer:
    return IdentityVersionSerializer(version, context={"newest": _newest()})


class IdentityView(APIView):
    @extend_schema(operation_id="identity", responses=IdentitySerializer)
    def get(self, request) -> Response:
        """The rules in force that distinguish pushed and fetched series, and earlier versions."""
        versions = IdentityVersion.objects.select_related("created_by").order_by("-pk")[:MOST_VERSIONS]
        newest = _newest()
        rows = IdentityVersionSerializer(versions, many=True, context={"newest": newest}).data
        rules = identity.to_data(places.in_force())
        return Response({"rules": rules, "is_default": newest is None, "versions": rows})

    @extend_schema(
        operation_id="put_identity", request=IdentityRulesSerializer, responses={202: PutInForceSerializer}
    )
    def put(self, request) -> Response:
        """Apply rules. A job combines the history of the streams that they join; the change can be undone."""
        rules = identity.from_data(query.fields(request).get("rules"))
        version, job = service.put_in_force(rules, request.user)
        return Response({"version": _version(version).data, "job": JobSerializer(job).data}, status=202)


class IdentityPreviewView(APIView):
    @extend_schema(
        operation_id="preview_identity", request=IdentityRulesSerializer, responses=IdentityEffectSerializer
    )
    def post(self, request) -> Response:
        """What rules would make of the last hour's series; nothing is changed."""
        return Response(service.preview(identity.from_data(query.fields(request).get("rules"))))


class IdentityUndoView(APIView):
    @extend_schema(operation_id="undo_identity", request=None, responses={202: JobSerializer})
    def post(self, request, pk: int) -> Response:
        """Undo the newest rules: series are distinguished as before."""
        job = service.undo(IdentityVersion.objects.get(pk=pk), request.user)
        return Response(JobSerializer(job).data, status=202)
