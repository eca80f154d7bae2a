"""Rounds of review over REST: begin one, be served, judge, take back, settle."""

from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.response import Response
from rest_framework.views import APIView

from watchtide.server import paging, query
from watchtide.server.incidents.api import given, who
from watchtide.server.logbook.api import EntrySerializer
from watchtide.server.logbook.models import VERDICT_CHOICES
from watchtide.server.review import services, tasks
from watchtide.server.review.models import KINDS, Round
from watchtide.server.scans.api import FindingSerializer
from watchtide.server.scans.models import Scan


class AgreementSerializer(serializers.Serializer):
    n = serializers.IntegerField()
    same = serializers.IntegerField()
    kappa = serializers.FloatField(allow_null=True)


class SaidSerializer(serializers.Serializer):
    by = serializers.CharField()
    verdict = serializers.CharField()


class DisputeSerializer(serializers.Serializer):
    item = serializers.IntegerField()
    title = serializers.CharField()
    metric = serializers.CharField()
    start = query.MomentField()
    end = query.MomentField()
    zone = serializers.CharField()
    finding = serializers.IntegerField(allow_null=True)
    verdicts = SaidSerializer(many=True)


class RoundSerializer(serializers.Serializer):
    id = serializers.IntegerField()
    scan = serializers.IntegerField()
    plan = serializers.CharField()
    kind = serializers.ChoiceField(choices=KINDS)
    metric = serializers.CharField(allow_blank=True)
    created_by = serializers.CharField(allow_blank=True)
    created_at = serializers.DateTimeField()
    total = serializers.IntegerField()
    judged = serializers.IntegerField()
    passed_over = serializers.IntegerField(help_text="judged by another entry meanwhile")
    second_looks = serializers.IntegerField()
    left = serializers.IntegerField()
    share = serializers.FloatField(
        allow_null=True, help_text="of judged findings that were real; of spans, with an incident"
    )
    share_ci = serializers.ListField(child=serializers.FloatField(), allow_null=True)
    counts = serializers.ListField(child=serializers.IntegerField())
    half = serializers.FloatField(allow_null=True, help_text="half the width of the interval")
    half_at_end = serializers.FloatField(allow_null=True)
    agreement = AgreementSerializer()
    disputed = DisputeSerializer(many=True)


class RoundStartSerializer(serializers.Serializer):
    scan = serializers.IntegerField()
    kind = serializers.ChoiceField(choices=KINDS)
    size = serializers.IntegerField(min_value=1, max_value=services.MOST_ITEMS, default=50)
    metric = serializers.CharField(required=False, allow_blank=True, max_length=200)
    begin = query.MomentField(required=False)
    end = query.MomentField(required=False)
    least = query.FiniteField(required=False, help_text="least score, in sigmas")


class MatesSerializer(serializers.Serializer):
    id = serializers.IntegerField(allow_null=True)
    finding = serializers.IntegerField(allow_null=True)
    title = serializers.CharField()
    state = serializers.CharField()
    streams = serializers.IntegerField()
    open = serializers.IntegerField(help_text="others of it without a verdict")


class ItemSerializer(serializers.Serializer):
    id = serializers.IntegerField()
    place = serializers.IntegerField()
    stream = serializers.IntegerField()
    scan = serializers.IntegerField()
    metric = serializers.CharField()
    title = serializers.CharField()
    scope = serializers.CharField()
    unit = serializers.CharField()
    zone = serializers.CharField()
    step_s = serializers.FloatField()
    start = query.MomentField()
    end = query.MomentField()
    stratum = serializers.CharField(allow_blank=True)
    probability = serializers.FloatField(allow_null=True)
    is_second = serializers.BooleanField()
    finding = FindingSerializer(allow_null=True)
    incident = MatesSerializer(allow_null=True)


class ServedSerializer(serializers.Serializer):
    item = ItemSerializer(allow_null=True)


def _round(pk: int) -> Round:
    return Round.objects.select_related("scan__plan_version__plan").get(pk=pk)


class FillingSerializer(serializers.Serializer):
    job = serializers.IntegerField(help_text="fills it; its result names the round")


class RoundsView(APIView):
    @extend_schema(operation_id="rounds", parameters=paging.PARAMETERS, responses=paging.of(RoundSerializer))
    def get(self, request) -> Response:
        """The latest rounds, newest first."""
        found = Round.objects.select_related("scan__plan_version__plan")
        return paging.rows(request, found, lambda rows: [services.summary(r) for r in rows], usual=20)

    @extend_schema(
        operation_id="start_round",
        request=RoundStartSerializer,
        responses={201: RoundSerializer, 202: FillingSerializer},
    )
    def post(self, request) -> Response:
        """Fill a round from a scan: the strongest open findings, a fair sample, or spans that nobody flagged.

        A job does it (202) where the scan is large.
        """
        data = given(RoundStartSerializer, request)
        filters = {name: data[name] for name in ("metric", "least") if data.get(name)}
        filters |= {f"{end}_ns": data[end] for end in ("begin", "end") if end in data}
        scan = Scan.objects.get(pk=data["scan"])
        if (job := tasks.pending(scan, data["kind"], data["size"], filters, request.user)) is not None:
            return Response({"job": job.pk}, status=202)
        made = services.start(scan, data["kind"], data["size"], filters, who(request))
        return Response(services.summary(_round(made.pk)), status=201)


class RoundView(APIView):
    @extend_schema(operation_id="round", responses=RoundSerializer)
    def get(self, request, pk: int) -> Response:
        return Response(services.summary(_round(pk)))


class SkipSerializer(serializers.Serializer):
    skip = serializers.IntegerField(required=False, help_text="the item to put at the end of the queue")


class NextView(APIView):
    @extend_schema(operation_id="next_item", request=SkipSerializer, responses=ServedSerializer)
    def post(self, request, pk: int) -> Response:
        """What is before this person: nobody else is served it until they judge, skip, or are gone for a quarter of an hour."""
        data, round_ = given(SkipSerializer, request), _round(pk)
        if "skip" in data:
            services.skip(round_, data["skip"], who(request))
        item = services.serve(round_, who(request))
        return Response({"item": services.item_row(item, who(request)) if item else None})


class ItemVerdictSerializer(serializers.Serializer):
    verdict = serializers.ChoiceField(choices=VERDICT_CHOICES)
    cause = serializers.CharField(allow_blank=True, default="", max_length=500)
    note = serializers.CharField(allow_blank=True, default="", max_length=10_000)
    start = query.MomentField(required=False)
    end = query.MomentField(required=False)
    split = query.MomentField(required=False, help_text="the verdict ends before here; the rest stays")
    rest = serializers.BooleanField(
        default=False, help_text="also for what else is open in the finding's incident"
    )


class SaidNowSerializer(serializers.Serializer):
    entry = EntrySerializer(allow_null=True, help_text="none for a second look")
    also = serializers.IntegerField(help_text="how many others took the same verdict")


class ItemVerdictView(APIView):
    @extend_schema(
        operation_id="judge_item", request=ItemVerdictSerializer, responses={201: SaidNowSerializer}
    )
    def post(self, request, pk: int, item: int) -> Response:
        data = given(ItemVerdictSerializer, request)
        for end in ("start", "end", "split"):
            if end in data:
                data[f"{end}_ns"] = data.pop(end)
        said = services.judge(_round(pk), item, data, who(request))
        entry = EntrySerializer(said.entry).data if said.entry else None
        return Response({"entry": entry, "also": len(said.also)}, status=201)


class UndoJudgementView(APIView):
    @extend_schema(operation_id="undo_judgement", request=None, responses=ServedSerializer)
    def post(self, request, pk: int) -> Response:
        """Take back what this person said last here, step by step to the beginning."""
        item = services.undo(_round(pk), who(request))
        return Response({"item": services.item_row(item, who(request))})


class SettlingSerializer(serializers.Serializer):
    verdict = serializers.ChoiceField(choices=VERDICT_CHOICES)


class SettleView(APIView):
    @extend_schema(operation_id="settle_item", request=SettlingSerializer, responses=RoundSerializer)
    def post(self, request, pk: int, item: int) -> Response:
        """Decide where two people differed."""
        round_ = _round(pk)
        services.settle(round_, item, given(SettlingSerializer, request)["verdict"], who(request))
        return Response(services.summary(round_))
