"""Signing in and out."""

from django.conf import settings
from django.contrib.auth import authenticate, login, logout
from django.middleware.csrf import get_token
from django.utils.decorators import method_decorator
from django.views.decorators.csrf import csrf_protect
from drf_spectacular.utils import extend_schema
from rest_framework import serializers
from rest_framework.permissions import AllowAny
from rest_framework.response import Response
from rest_framework.throttling import ScopedRateThrottle
from rest_framework.views import APIView

from watchtide.server.people.access import role_of
from watchtide.server.problems import Problem


class SessionSerializer(serializers.Serializer):
    name = serializers.CharField(allow_null=True)
    role = serializers.CharField(allow_null=True)
    csrf_cookie = serializers.CharField()
    is_demo = serializers.BooleanField()


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
        }
    )


@method_decorator(csrf_protect, name="dispatch")
class SessionView(APIView):
    permission_classes = [AllowAny]
    throttle_scope = "sign-in"

    def get_throttles(self):
        return [ScopedRateThrottle()] if self.request.method == "POST" else []

    @extend_schema(responses=SessionSerializer, operation_id="session")
    def get(self, request) -> Response:
        return _session(request)

    @extend_schema(request=SignInSerializer, responses=SessionSerializer, operation_id="sign_in")
    def post(self, request) -> Response:
        given = SignInSerializer(data=request.data)
        given.is_valid(raise_exception=True)
        user = authenticate(
            request, username=given.validated_data["name"], password=given.validated_data["password"]
        )
        if user is None:
            raise Problem("name and password do not match", place="password", remedy="try again", code=403)
        login(request, user)
        request.user = user
        return _session(request)

    @extend_schema(responses={204: None}, operation_id="sign_out")
    def delete(self, request) -> Response:
        logout(request)
        return Response(status=204)
