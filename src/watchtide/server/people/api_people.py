"""Accounts, sessions, and the links by which people set their passwords."""

from typing import Any

from django.contrib.auth.models import User
from django.db.models import Max, Q
from django.utils.decorators import method_decorator
from django.views.decorators.csrf import csrf_protect
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.permissions import AllowAny, IsAuthenticated
from rest_framework.response import Response
from rest_framework.views import APIView

from watchtide.server import paging
from watchtide.server.people import services, sessions, trail
from watchtide.server.people.access import ADMIN, ANALYST, VIEWER, role_of
from watchtide.server.people.models import PURPOSES, SignIn
from watchtide.server.people.rights import only_admins, only_people
from watchtide.server.problems import Problem

ROLES = [(r, r) for r in (VIEWER, ANALYST, ADMIN)]


class PersonSerializer(serializers.Serializer):
    id = serializers.IntegerField(read_only=True)
    name = serializers.RegexField(
        r"^[\w.@+-]+\Z", max_length=150, help_text="what they sign in as: letters, digits and @ . + - _"
    )
    full_name = serializers.CharField(max_length=150, required=False, allow_blank=True)
    role = serializers.ChoiceField(choices=ROLES)
    state = serializers.ChoiceField(
        choices=[(s, s) for s in ("active", "invited", "disabled")], read_only=True
    )
    last_seen_at = serializers.DateTimeField(read_only=True, allow_null=True)
    link_ends_at = serializers.DateTimeField(
        read_only=True, allow_null=True, help_text="of a link not yet used"
    )
    disabled_at = serializers.DateTimeField(read_only=True, allow_null=True)
    sessions = serializers.IntegerField(read_only=True)


class LinkSerializer(serializers.Serializer):
    person = PersonSerializer()
    purpose = serializers.ChoiceField(choices=[(p, p) for p in PURPOSES])
    link = serializers.CharField(help_text="shown this once; the page for it is /join#LINK")


class PersonChangeSerializer(serializers.Serializer):
    full_name = serializers.CharField(max_length=150, required=False, allow_blank=True)
    role = serializers.ChoiceField(choices=ROLES, required=False)
    is_active = serializers.BooleanField(required=False)


def _people() -> Any:
    """Accounts with what the list shows of each, in one query and one for their groups."""
    links = Q(account_links__used_at=None)
    found = User.objects.select_related("person").prefetch_related("groups")
    return found.annotate(
        last_seen_at=Max("sign_ins__last_seen_at"),
        link_ends_at=Max("account_links__expires_at", filter=links),
    )


def _rows(users: Any) -> list[dict[str, Any]]:
    states = services.states(users)
    counts = sessions.counts([user.pk for user in users])
    return PersonSerializer(
        [
            {
                "id": user.pk,
                "name": user.username,
                "full_name": user.first_name,
                "role": role_of(user),
                "state": states[user.pk],
                "last_seen_at": user.last_seen_at,
                "link_ends_at": user.link_ends_at,
                "disabled_at": getattr(getattr(user, "person", None), "disabled_at", None),
                "sessions": counts.get(user.pk, 0),
            }
            for user in users
        ],
        many=True,
    ).data


def _row(pk: int) -> dict[str, Any]:
    return _rows([_people().get(pk=pk)])[0]


class PeopleView(APIView):
    permission_classes = [IsAuthenticated]

    @extend_schema(operation_id="people", parameters=paging.PARAMETERS, responses=paging.of(PersonSerializer))
    def get(self, request) -> Response:
        """Accounts by name, for admins."""
        only_admins(request)
        return paging.rows(request, _people(), _rows, by="username")

    @extend_schema(operation_id="invite", request=PersonSerializer, responses={201: LinkSerializer})
    def post(self, request) -> Response:
        """Make an account and the link by which its owner sets a password. The link is in this answer and nowhere else."""
        only_admins(request)
        given = PersonSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        data = given.validated_data
        who = trail.of(request)
        user, text = services.invite(who, data["name"], data.get("full_name", ""), data["role"])
        return Response({"person": _row(user.pk), "purpose": "invitation", "link": text}, status=201)


class PersonView(APIView):
    permission_classes = [IsAuthenticated]

    @extend_schema(operation_id="change_person", request=PersonChangeSerializer, responses=PersonSerializer)
    def patch(self, request, pk: int) -> Response:
        """Change role or full name, disable an account or enable it again."""
        only_admins(request)
        given = PersonChangeSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        data, user = given.validated_data, User.objects.get(pk=pk)
        if user.pk == request.user.pk and ("is_active" in data or "role" in data):
            raise Problem(
                "this is your own account", place="person", remedy="let another admin change its role or disable it", code=409
            )  # fmt: skip
        if "full_name" in data:
            User.objects.filter(pk=pk).update(first_name=data["full_name"])
        if "role" in data:
            services.set_role(trail.of(request), user, data["role"])
        if "is_active" in data:
            services.set_active(trail.of(request), user, data["is_active"])
        return Response(_row(pk))


class PersonLinkView(APIView):
    permission_classes = [IsAuthenticated]

    @extend_schema(operation_id="make_account_link", request=None, responses={201: LinkSerializer})
    def post(self, request, pk: int) -> Response:
        """A new link in place of the earlier: an invitation again, or for a forgotten password."""
        only_admins(request)
        purpose, text = services.new_link(trail.of(request), User.objects.get(pk=pk))
        return Response({"person": _row(pk), "purpose": purpose, "link": text}, status=201)


class PersonSessionsView(APIView):
    permission_classes = [IsAuthenticated]

    @extend_schema(operation_id="end_sessions_of", responses={204: None})
    def delete(self, request, pk: int) -> Response:
        """End every session of somebody."""
        only_admins(request)
        user = User.objects.get(pk=pk)
        if count := sessions.end(SignIn.objects.filter(user=user)):
            trail.note(request, "sessions ended", f"{user.username}: {count}")
        return Response(status=204)


class SignInRowSerializer(serializers.ModelSerializer):
    is_this = serializers.SerializerMethodField()

    class Meta:
        model = SignIn
        fields = ["id", "address", "agent", "created_at", "last_seen_at", "is_this"]

    def get_is_this(self, row: SignIn) -> bool:
        return row.pk == self.context["this"]


class SessionsView(APIView):
    permission_classes = [IsAuthenticated]

    @extend_schema(
        operation_id="sessions", parameters=paging.PARAMETERS, responses=paging.of(SignInRowSerializer)
    )
    def get(self, request) -> Response:
        """Your open sessions, the last used first."""
        only_people(request)
        own = sessions.current(request)
        context = {"this": own.pk if own else None}
        found = sessions.open_ones(request.user)
        return paging.rows(
            request,
            found,
            lambda r: SignInRowSerializer(r, many=True, context=context).data,
            by="-last_seen_at",
        )

    @extend_schema(operation_id="end_other_sessions", responses={204: None})
    def delete(self, request) -> Response:
        """End all of your sessions but this one."""
        only_people(request)
        own = sessions.current(request)
        others = SignIn.objects.filter(user=request.user).exclude(pk=own.pk if own else None)
        if count := sessions.end(others):
            trail.note(request, "sessions ended", f"{request.user.username}: {count}")
        return Response(status=204)


class OneSessionView(APIView):
    permission_classes = [IsAuthenticated]

    @extend_schema(operation_id="end_session", responses={204: None})
    def delete(self, request, pk: int) -> Response:
        """End one of your sessions."""
        only_people(request)
        row = SignIn.objects.get(pk=pk, user=request.user)
        if sessions.end(SignIn.objects.filter(pk=row.pk)):
            trail.note(request, "sessions ended", f"{request.user.username}: 1")
        return Response(status=204)


class PasswordSerializer(serializers.Serializer):
    old = serializers.CharField(max_length=200, trim_whitespace=False)
    new = serializers.CharField(max_length=200, trim_whitespace=False)


class PasswordView(APIView):
    permission_classes = [IsAuthenticated]

    @extend_schema(operation_id="change_password", request=PasswordSerializer, responses={204: None})
    def put(self, request) -> Response:
        """Set one's own password; every other session ends."""
        only_people(request)
        given = PasswordSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        services.change_password(request, request.user, **given.validated_data)
        return Response(status=204)


class LookLinkSerializer(serializers.Serializer):
    link = serializers.CharField(max_length=200)


class FoundLinkSerializer(serializers.Serializer):
    name = serializers.CharField()
    purpose = serializers.ChoiceField(choices=[(p, p) for p in PURPOSES])
    ends_at = serializers.DateTimeField()


class UseLinkSerializer(serializers.Serializer):
    link = serializers.CharField(max_length=200)
    password = serializers.CharField(max_length=200, trim_whitespace=False)


@method_decorator(csrf_protect, name="dispatch")
class LookLinkView(APIView):
    """The link is in the body: an address would stand in logs."""

    permission_classes = [AllowAny]

    @extend_schema(operation_id="look_at_link", request=LookLinkSerializer, responses=FoundLinkSerializer)
    def post(self, request) -> Response:
        """Whose account a link is for, and until when."""
        given = LookLinkSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        link = services.link_of(given.validated_data["link"])
        return Response({"name": link.user.username, "purpose": link.purpose, "ends_at": link.expires_at})


@method_decorator(csrf_protect, name="dispatch")
class UseLinkView(APIView):
    permission_classes = [AllowAny]

    @extend_schema(operation_id="use_link", request=UseLinkSerializer, responses={204: None})
    def post(self, request) -> Response:
        """Set the password of a link's account, and sign in."""
        given = UseLinkSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        address = trail.of(request)["address"]
        user = services.use_link(address, **given.validated_data)
        sessions.begin(request, user)
        return Response(status=204)
