"""What takes room, for admins: tables and files by what they are for, as counted within the last minute or so."""

from typing import Any

from django.conf import settings
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.permissions import IsAuthenticated
from rest_framework.response import Response
from rest_framework.views import APIView

from watchtide.server import disk
from watchtide.server.jobs.models import Tally
from watchtide.server.people.rights import only_admins


class PartSerializer(serializers.Serializer):
    name = serializers.CharField()
    bytes = serializers.IntegerField()


class StorageSerializer(serializers.Serializer):
    counted_at = serializers.DateTimeField(allow_null=True)
    samples = serializers.IntegerField()
    streams = serializers.IntegerField()
    database = PartSerializer(many=True)
    files = PartSerializer(many=True)
    disk_free_bytes = serializers.IntegerField()
    disk_total_bytes = serializers.IntegerField()
    disk_state = serializers.ChoiceField(choices=[(s, s) for s in ("fine", "nearly full", "full")])
    least_free_bytes = serializers.IntegerField(help_text="intake stops below this")
    stage_cache_bytes = serializers.IntegerField(help_text="cap of the kept stages")
    last_backup_at = serializers.DateTimeField(allow_null=True)
    last_backup_bytes = serializers.IntegerField(allow_null=True)


class StorageView(APIView):
    permission_classes = [IsAuthenticated]

    @extend_schema(operation_id="storage", responses=StorageSerializer)
    def get(self, request) -> Response:
        """Room taken by tables and files."""
        only_admins(request)
        found = {row.name: row for row in Tally.objects.filter(name__in=("counts", "backup"))}
        counts = found["counts"].figures if "counts" in found else {}
        backup = found.get("backup")
        return Response(
            {
                "counted_at": found["counts"].at if counts else None,
                "samples": counts.get("samples", 0),
                "streams": sum(counts.get("streams", {}).values()),
                "database": _parts(counts.get("database_bytes", {})),
                "files": _parts(counts.get("file_bytes", {})),
                "disk_free_bytes": disk.free_bytes(),
                "disk_total_bytes": disk.total_bytes(),
                "disk_state": disk.state(),
                "least_free_bytes": settings.LEAST_FREE_BYTES,
                "stage_cache_bytes": settings.STAGE_CACHE_BYTES,
                "last_backup_at": backup.at if backup else None,
                "last_backup_bytes": backup.figures["bytes"] if backup else None,
            }
        )


def _parts(sizes: dict[str, int]) -> list[dict[str, Any]]:
    return [{"name": name, "bytes": size} for name, size in sorted(sizes.items(), key=lambda kv: -kv[1])]
