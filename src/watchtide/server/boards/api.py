"""Boards over REST: made, arranged, and shown; to somebody who never signs in by a link that ends."""

from datetime import timedelta
from typing import Any

from django.conf import settings
from django.core.cache import cache
from django.db import transaction
from drf_spectacular.utils import OpenApiTypes, extend_schema
from rest_framework import serializers
from rest_framework.permissions import AllowAny
from rest_framework.response import Response
from rest_framework.views import APIView

from watchtide.server import moments, paging, query
from watchtide.server.boards import panes
from watchtide.server.boards.models import Board, BoardLink
from watchtide.server.jobs import services as jobs
from watchtide.server.people import trail
from watchtide.server.people.access import LINK_PREFIX, digest_of, new_text
from watchtide.server.problems import Problem
from watchtide.server.query import fields

MOST_DAYS = 366
# A pane is read once in so many seconds, however many look at it; a forecast, which takes a fit, in minutes.
FRESH_S, FRESH_FORECAST_S = 5, 300


class BoardSerializer(serializers.Serializer):
    id = serializers.IntegerField(read_only=True)
    name = serializers.CharField(max_length=120)
    panes = serializers.JSONField(
        default=list, help_text="each with kind, title, x, y, w, h on a grid 12 wide, and its settings"
    )
    version = serializers.IntegerField(
        read_only=True, help_text="counts changes; sent along, it guards against others'"
    )
    created_by = serializers.CharField(read_only=True)
    created_at = serializers.DateTimeField(read_only=True)


class ChangeSerializer(serializers.Serializer):
    name = serializers.CharField(max_length=120, required=False)
    panes = serializers.JSONField(required=False)
    version = serializers.IntegerField(
        required=False, help_text="that the change is of; another one is refused"
    )


class ShareSerializer(serializers.Serializer):
    until = query.MomentField(help_text="when it ends; of a day alone its end, in UTC")


class BoardLinkSerializer(serializers.Serializer):
    id = serializers.IntegerField()
    hint = serializers.CharField()
    expires_at = serializers.DateTimeField()
    created_by = serializers.CharField()


class SharedSerializer(BoardLinkSerializer):
    url = serializers.CharField(help_text="shown only now")


class BoardsView(APIView):
    @extend_schema(operation_id="boards", parameters=paging.PARAMETERS, responses=paging.of(BoardSerializer))
    def get(self, request) -> Response:
        """Boards, by name."""

        def listed(rows: Any) -> Any:
            return BoardSerializer(rows, many=True).data

        return paging.rows(request, Board.objects.all(), listed, by="name")

    @extend_schema(operation_id="make_board", request=BoardSerializer, responses={201: BoardSerializer})
    def post(self, request) -> Response:
        given = BoardSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        data = given.validated_data
        made = Board.objects.create(
            name=query.unused(Board, data["name"]),
            panes=panes.checked(data["panes"]),
            created_by=request.user.get_username(),
        )
        trail.note(request, "board made", made.name)
        return Response(BoardSerializer(made).data, status=201)


class BoardView(APIView):
    @extend_schema(operation_id="board", responses=BoardSerializer)
    def get(self, request, pk: int) -> Response:
        return Response(BoardSerializer(Board.objects.get(pk=pk)).data)

    @extend_schema(operation_id="change_board", request=ChangeSerializer, responses=BoardSerializer)
    def patch(self, request, pk: int) -> Response:
        """Rename a board, or put its panes as they are to be; all or nothing."""
        given = ChangeSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        data = given.validated_data
        with transaction.atomic():
            board = Board.objects.select_for_update().get(pk=pk)
            if data.get("version", board.version) != board.version:
                raise Problem(
                    "somebody has changed the board meanwhile",
                    place="version",
                    remedy="load it again",
                    code=412,
                )
            if "name" in data:
                board.name = query.unused(Board, data["name"], pk)
            if "panes" in data:
                board.panes = panes.checked(data["panes"])
            board.version += 1
            board.save()
        jobs.tell("board", pk)
        return Response(BoardSerializer(board).data)

    @extend_schema(operation_id="delete_board", responses={204: None})
    def delete(self, request, pk: int) -> Response:
        """Take a board away, and with it its links."""
        board = Board.objects.get(pk=pk)
        board.delete()
        trail.note(request, "board taken away", board.name)
        return Response(status=204)


def _pane(board: Board, place: int) -> dict[str, Any]:
    """The data of one pane, read a few seconds ago at most."""
    if not 0 <= place < len(board.panes):
        raise Problem(
            f"the board has no pane {place}", place="place", remedy="load the board again", code=404
        )
    key = f"pane:{board.pk}:{board.version}:{place}"
    found = cache.get(key)
    if found is None:
        found = panes.data_of(board.panes[place])
        cache.set(key, found, FRESH_FORECAST_S if found["kind"] == "forecast" else FRESH_S)
    return found


class PaneView(APIView):
    @extend_schema(operation_id="pane", responses={200: OpenApiTypes.OBJECT})
    def get(self, request, pk: int, place: int) -> Response:
        """What one pane shows now."""
        return Response(_pane(Board.objects.get(pk=pk), place))


class ShareView(APIView):
    @extend_schema(operation_id="board_links", responses=BoardLinkSerializer(many=True))
    def get(self, request, pk: int) -> Response:
        """Links that show this board, without their secrets."""
        found = Board.objects.get(pk=pk).links.filter(expires_at__gt=moments.now()).order_by("expires_at")
        return Response(BoardLinkSerializer(found, many=True).data)

    @extend_schema(operation_id="share_board", request=ShareSerializer, responses={201: SharedSerializer})
    def post(self, request, pk: int) -> Response:
        """A link that shows this board alone, to whoever has it, through a day."""
        given = ShareSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        # A day alone is whole.
        whole = (
            timedelta(days=1) if len(str(fields(request).get("until"))) == len("2026-12-01") else timedelta(0)
        )
        end = moments.EPOCH + timedelta(microseconds=given.validated_data["until"] // 1_000) + whole
        now = moments.now()
        if not now < end <= now + timedelta(days=MOST_DAYS + 1):
            raise Problem(
                f"that is past, or more than {MOST_DAYS} days ahead",
                place="until",
                remedy="name a day between",
            )
        board = Board.objects.get(pk=pk)
        text = new_text(LINK_PREFIX)
        made = BoardLink.objects.create(
            board=board,
            digest=digest_of(text),
            hint=text[:9],
            expires_at=end,
            created_by=request.user.get_username(),
        )
        trail.note(request, "board shared", board.name)
        made.url = f"{settings.ADDRESS}/shared/{text}"  # type: ignore[attr-defined]
        return Response(SharedSerializer(made).data, status=201)


class LinkView(APIView):
    @extend_schema(operation_id="end_board_link", responses={204: None})
    def delete(self, request, pk: int, link: int) -> Response:
        """End a link before its day."""
        BoardLink.objects.get(pk=link, board=pk).delete()
        trail.note(request, "board link ended", pk)
        return Response(status=204)


class Shared(APIView):
    """What a link opens: one board, read only, without an account."""

    authentication_classes = ()
    permission_classes = (AllowAny,)

    def board(self, text: str) -> Board:
        found = BoardLink.objects.select_related("board").filter(
            digest=digest_of(text), expires_at__gt=moments.now()
        )
        link = found.first()
        if link is None:
            raise Problem(
                "this link has ended", place="link", remedy="whoever sent it can make another", code=404
            )
        return link.board


class SharedBoardView(Shared):
    @extend_schema(operation_id="shared_board", responses=BoardSerializer)
    def get(self, request, text: str) -> Response:
        """The board of a link."""
        return Response(BoardSerializer(self.board(text)).data)


class SharedPaneView(Shared):
    @extend_schema(operation_id="shared_pane", responses={200: OpenApiTypes.OBJECT})
    def get(self, request, text: str, place: int) -> Response:
        """What one pane of a link's board shows now."""
        return Response(_pane(self.board(text), place))
