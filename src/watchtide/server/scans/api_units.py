"""Units of a scanned stream over HTTP."""

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.response import Response
from rest_framework.views import APIView

from watchtide.server import query
from watchtide.server.problems import Problem
from watchtide.server.scans import services, units
from watchtide.server.scans.api import NumbersField, TimesField


class CountsField(serializers.ListField):
    child = serializers.IntegerField()


class BestUnitLevelSerializer(serializers.Serializer):
    """A level chosen on units of validation and labelled ones, with the figures of the test beside."""

    level = serializers.FloatField()
    is_met = serializers.BooleanField()
    chosen_on = serializers.DictField(child=serializers.JSONField())
    test = serializers.DictField(child=serializers.JSONField())


class UnitsSerializer(serializers.Serializer):
    """Units in their order; part : training, validation, test or labelled; is_odd : an incident of the logbook touches it;
    tp to tn : units of the test at each of the levels; laid : some to lay over
    one another."""

    samples = serializers.IntegerField()
    step_s = serializers.FloatField()
    start = TimesField()
    part = serializers.ListField(child=serializers.CharField())
    is_odd = serializers.ListField(child=serializers.BooleanField())
    score = NumbersField()
    level = serializers.FloatField(allow_null=True)
    levels = NumbersField()
    tp = CountsField()
    fp = CountsField()
    fn = CountsField()
    tn = CountsField()
    best = BestUnitLevelSerializer(allow_null=True)
    why_not = serializers.CharField(allow_blank=True)
    laid = CountsField()


class UnitSerializer(serializers.Serializer):
    """One unit: seconds from its first sample on, what was seen, and what was expected of it."""

    number = serializers.IntegerField()
    at_s = NumbersField()
    value = NumbersField()
    expected = NumbersField()
    spread = NumbersField()


class DrawnSerializer(serializers.Serializer):
    units = UnitSerializer(many=True)


class UnitsView(APIView):
    @extend_schema(
        operation_id="units",
        responses=UnitsSerializer,
        parameters=[OpenApiParameter("gap", float, description="most between sensitivity and specificity")],
    )
    def get(self, request, pk: int, stream: int) -> Response:
        """The units of a stream with part, class and score, and how a level parts them."""
        gap = query.number(request, "gap", least=0.0, most=1.0)
        return Response(
            units.table(services.scan_stream(pk, stream), units.USUAL_GAP if gap is None else gap)
        )


class DrawnView(APIView):
    @extend_schema(
        operation_id="units_drawn",
        responses=DrawnSerializer,
        parameters=[OpenApiParameter("numbers", str, required=True, description="for example 3,17")],
    )
    def get(self, request, pk: int, stream: int) -> Response:
        """Some units with what each was rebuilt as."""
        stated = [part for part in request.query_params.get("numbers", "").split(",") if part.strip()]
        if not stated or len(stated) > units.MOST_DRAWN or not all(part.strip().isdigit() for part in stated):
            raise Problem(
                "numbers says which units: whole numbers with commas between them",
                place="numbers",
                remedy=f"give for example 3,17; {units.MOST_DRAWN} at most",
            )
        numbers = [int(part) for part in stated]
        return Response({"units": units.drawn(services.scan_stream(pk, stream), numbers)})
