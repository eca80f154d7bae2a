"""Signing in and out, and tokens for scripts."""

from datetime import timedelta

from django.conf import settings
from django.contrib.auth import authenticate, logout
from django.contrib.auth.models import User
from django.db import transaction
from django.http import StreamingHttpResponse
from django.middleware.csrf import get_token
from django.utils.decorators import method_decorator
from django.views.decorators.csrf import csrf_protect
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework import serializers
from rest_framework.permissions import AllowAny, IsAuthenticated
from rest_framework.response import Response
from rest_framework.views import APIView

from watchtide import __version__
from watchtide.server import moments, paging
from watchtide.server.people import sessions, trail
from watchtide.server.people.access import ADMIN, make_token, role_of
from watchtide.server.people.models import SCOPES, AuditEntry, SignIn, Token
from watchtide.server.people.rights import only_admins, only_people
from watchtide.server.problems import Problem
from watchtide.server.streams import catalogue


class SessionSerializer(serializers.Serializer):
    name = serializers.CharField(allow_null=True)
    role = serializers.CharField(allow_null=True)
    csrf_cookie = serializers.CharField()
    is_demo = serializers.BooleanField()
    demo_page = serializers.CharField(
        allow_blank=True, help_text="where the demo's own mail can be read, and things let go wrong"
    )
    full_name = serializers.CharField(allow_null=True)
    version = serializers.CharField()
    zone = serializers.CharField(allow_null=True, help_text="that most streams are in")


class SignInSerializer(serializers.Serializer):
    name = serializers.CharField(max_length=150)
    password = serializers.CharField(max_length=200, trim_whitespace=False)


def _session(request) -> Response:
    get_token(request)
    known = request.user.is_authenticated
    return Response(
        {
            "name": request.user.get_username() if known else None,
            "role": role_of(request.user) if known else None,
            "csrf_cookie": settings.CSRF_COOKIE_NAME,
            "is_demo": settings.IS_DEMO,
            "demo_page": settings.DEMO_PAGE if known else "",
            "full_name": request.user.first_name if known else None,
            "version": __version__,
            "zone": catalogue.usual_zone() if known else None,
        }
    )


@method_decorator(csrf_protect, name="dispatch")
class SessionView(APIView):
    permission_classes = [AllowAny]

    @extend_schema(responses=SessionSerializer, operation_id="session")
    def get(self, request) -> Response:
        return _session(request)

    @extend_schema(request=SignInSerializer, responses=SessionSerializer, operation_id="sign_in")
    def post(self, request) -> Response:
        given = SignInSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        name = given.validated_data["name"]
        trail.check_sign_in(request, name)
        user = authenticate(request, username=name, password=given.validated_data["password"])
        if user is None:
            trail.failed(request, name)
            raise Problem("name and password do not match", place="password", remedy="try again", code=401)
        sessions.begin(request, user)
        request.user = user
        return _session(request)

    @extend_schema(responses={204: None}, operation_id="sign_out")
    def delete(self, request) -> Response:
        if (own := sessions.current(request)) is not None:
            sessions.end(SignIn.objects.filter(pk=own.pk))
            trail.note(request, "signed out")
        logout(request)
        return Response(status=204)


class AuditEntrySerializer(serializers.ModelSerializer):
    class Meta:
        model = AuditEntry
        fields = ["id", "at", "by", "what", "subject", "address"]


class TrailView(APIView):
    """The trail, for admins."""

    permission_classes = [IsAuthenticated]

    @extend_schema(
        operation_id="trail",
        parameters=[*paging.PARAMETERS, OpenApiParameter("by", str), OpenApiParameter("what", str)],
        responses=paging.of(AuditEntrySerializer),
    )
    def get(self, request) -> Response:
        """What was done and by whom, the latest first."""
        only_admins(request)
        found = AuditEntry.objects.all()
        for name in ("by", "what"):
            if request.GET.get(name):
                found = found.filter(**{name: request.GET[name]})
        return paging.rows(request, found, lambda rows: AuditEntrySerializer(rows, many=True).data)


class TrailExportView(APIView):
    permission_classes = [IsAuthenticated]

    @extend_schema(operation_id="trail_export", responses={(200, "application/x-ndjson"): str})
    def get(self, request) -> StreamingHttpResponse:
        """The whole trail as JSON Lines."""
        only_admins(request)
        trail.note(request, "trail exported")
        answer = StreamingHttpResponse(trail.as_lines(), content_type="application/x-ndjson")
        answer["Content-Disposition"] = 'attachment; filename="trail.jsonl"'
        return answer


class TokenSerializer(serializers.Serializer):
    id = serializers.IntegerField(read_only=True)
    name = serializers.CharField(max_length=120)
    scopes = serializers.ListField(
        child=serializers.ChoiceField(choices=[(s, s) for s in SCOPES]), min_length=1, max_length=3
    )
    days = serializers.IntegerField(
        min_value=1,
        max_value=3650,
        required=False,
        allow_null=True,
        write_only=True,
        help_text="until it expires; a year where left out, null for never",
    )
    hint = serializers.CharField(read_only=True)
    owner = serializers.CharField(
        source="owner.username",
        required=False,
        max_length=150,
        help_text="yourself where left out; another's for admins only",
    )
    created_at = serializers.DateTimeField(read_only=True)
    expires_at = serializers.DateTimeField(read_only=True, allow_null=True)
    revoked_at = serializers.DateTimeField(read_only=True, allow_null=True)
    last_used_at = serializers.DateTimeField(read_only=True, allow_null=True)
    text = serializers.CharField(read_only=True, required=False, help_text="shown this once")


class TokensView(APIView):
    # Also viewers have scripts; a token never may more than its owner.
    permission_classes = [IsAuthenticated]

    @extend_schema(operation_id="tokens", parameters=paging.PARAMETERS, responses=paging.of(TokenSerializer))
    def get(self, request) -> Response:
        """One's own tokens; an admin sees everybody's."""
        only_people(request)
        found = Token.objects.select_related("owner")
        if role_of(request.user) != ADMIN:
            found = found.filter(owner=request.user)
        return paging.rows(request, found, lambda rows: TokenSerializer(rows, many=True).data)

    @extend_schema(request=TokenSerializer, responses={201: TokenSerializer}, operation_id="make_token")
    def post(self, request) -> Response:
        """Make a token. Its text is in this answer and nowhere else."""
        only_people(request)
        given = TokenSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        data = given.validated_data
        # A token without an end must be requested as one.
        days = data.get("days", settings.TOKEN_DAYS)
        until = moments.now() + timedelta(days=days) if days else None
        owner = _owner(request, data.get("owner", {}).get("username", ""))
        with transaction.atomic():
            token, text = make_token(owner, data["name"], sorted(set(data["scopes"])), until)
            whose = "" if owner == request.user else f" of {owner.username}"
            trail.note(request, "token made", f"{token.name} ({token.hint}…){whose}")
        token.text = text
        return Response(TokenSerializer(token).data, status=201)


def _owner(request, name: str) -> User:
    """Whose token it becomes."""
    if not name or name == request.user.username:
        return request.user
    only_admins(request)
    owner = User.objects.filter(username=name, is_active=True).first()
    if owner is None:
        raise Problem(f"there is no account {name[:60]} in use", place="owner", remedy="correct the name")
    return owner


class TokenView(APIView):
    permission_classes = [IsAuthenticated]

    @extend_schema(responses={204: None}, operation_id="revoke_token")
    def delete(self, request, pk: int) -> Response:
        only_people(request)
        token = Token.objects.get(pk=pk)
        if token.owner_id != request.user.pk and role_of(request.user) != ADMIN:
            raise Problem(
                "this token is somebody else's", place=f"token {pk}", remedy="ask an admin", code=403
            )
        with transaction.atomic():
            if Token.objects.filter(pk=pk, revoked_at=None).update(revoked_at=moments.now()):
                trail.note(request, "token revoked", f"{token.name} ({token.hint}…)")
        return Response(status=204)
