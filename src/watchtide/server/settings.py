"""Settings, from the environment or watchtide.toml; see docs/operations.md."""

import os
import tomllib
from pathlib import Path

_FILE = Path(os.environ.get("WATCHTIDE_CONFIG", "watchtide.toml"))
_STATED = tomllib.loads(_FILE.read_text()) if _FILE.is_file() else {}
_ROOT = Path(__file__).resolve().parents[3]


def _get(name: str, default: str = "") -> str:
    return os.environ.get(f"WATCHTIDE_{name}", str(_STATED.get(name.lower(), default)))


IS_DEMO = _get("DEMO") == "1"
SECRET_KEY = _get("SECRET_KEY") or "only-for-commands-that-serve-nobody"
DEBUG = False
ALLOWED_HOSTS = [h for h in _get("HOSTS", "127.0.0.1,localhost").split(",") if h]
CSRF_TRUSTED_ORIGINS = [o for o in _get("ORIGINS").split(",") if o]

# Where caches and uploads lie; safe to delete while nothing runs.
DATA_FOLDER = Path(_get("DATA", str(Path.home() / ".local/share/watchtide")))
STAGE_CACHE_BYTES = int(_get("STAGE_CACHE_MB", "2048")) * 2**20
MOST_UPLOAD_BYTES = int(_get("MOST_UPLOAD_MB", "8192")) * 2**20
# How much of a file is looked at before it is stored; the rest is read once, when it is.
MOST_LOOKED_AT = int(_get("MOST_LOOKED_AT_MB", "32")) * 2**20
# Files handed in are kept for so many days, and all together up to this much; intake stops while less than this is free.
TRAIL_DAYS = int(_get("TRAIL_DAYS", "730"))
TOKEN_DAYS = int(_get("TOKEN_DAYS", "365"))
UPLOAD_DAYS = int(_get("UPLOAD_DAYS", "7"))
MOST_UPLOADS_BYTES = int(_get("MOST_UPLOADS_MB", "32768")) * 2**20
LEAST_FREE_BYTES = int(_get("LEAST_FREE_MB", "512")) * 2**20
UNDO_DAYS = int(_get("UNDO_DAYS", "7"))
# Pushes: bytes as sent, bytes unpacked, and what one token may send in a minute.
MOST_PUSH_BYTES = int(_get("MOST_PUSH_MB", "16")) * 2**20
MOST_PUSH_INFLATED = int(_get("MOST_PUSH_UNPACKED_MB", "64")) * 2**20
PUSHES_A_MINUTE = int(_get("PUSHES_A_MINUTE", "1200"))
POINTS_A_MINUTE = int(_get("POINTS_A_MINUTE", "6000000"))
# Networks and addresses that feeds may be fetched from; none unless named.
OUTGOING = [n.strip() for n in _get("OUTGOING").split(",") if n.strip()]
JOB_LEASE_SECONDS = float(_get("JOB_LEASE_SECONDS", "15"))
SCAN_PROCESSES = int(_get("SCAN_PROCESSES", str(min(os.cpu_count() or 1, 4))))

INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.staticfiles",
    "rest_framework",
    "drf_spectacular",
    "django_tasks",
    "django_tasks_db",
    "watchtide.server",
    "watchtide.server.people",
    "watchtide.server.jobs",
    "watchtide.server.streams",
    "watchtide.server.logbook",
    "watchtide.server.scans",
    "watchtide.server.incidents",
    "watchtide.server.review",
    "watchtide.server.cards",
]
MIDDLEWARE = [
    "watchtide.server.security.SecurityHeaders",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
]
ROOT_URLCONF = "watchtide.server.urls"
ASGI_APPLICATION = "watchtide.server.asgi.application"
TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "DIRS": [Path(__file__).parent / "templates"],
        "OPTIONS": {"context_processors": ["django.template.context_processors.request"]},
    }
]
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.mysql",
        "NAME": _get("DB_NAME", "watchtide"),
        "USER": _get("DB_USER", "watchtide"),
        "PASSWORD": _get("DB_PASSWORD"),
        "HOST": _get("DB_SOCKET") or _get("DB_HOST", "127.0.0.1"),
        "PORT": _get("DB_PORT"),
        # Threads come and go under ASGI: a kept connection would belong to none of them.
        "CONN_MAX_AGE": 0,
        "OPTIONS": {
            "charset": "utf8mb4",
            "isolation_level": "read committed",
            "init_command": "SET sql_mode='STRICT_ALL_TABLES', time_zone='+00:00'",
        },
        "TEST": {"CHARSET": "utf8mb4", "COLLATION": "utf8mb4_bin"},
    }
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
USE_TZ = True
TIME_ZONE = "UTC"
LANGUAGE_CODE = "en-gb"

STATIC_URL = "/static/"
STATICFILES_DIRS = [_ROOT / "web" / "dist"] if (_ROOT / "web" / "dist").is_dir() else []
WHITENOISE_USE_FINDERS = True
WHITENOISE_AUTOREFRESH = False

AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator", "OPTIONS": {"min_length": 12}},
    {"NAME": "django.contrib.auth.password_validation.CommonPasswordValidator"},
]
CSRF_FAILURE_VIEW = "watchtide.server.problems.no_csrf"
SESSION_COOKIE_HTTPONLY = True
SESSION_COOKIE_SAMESITE = "Lax"
# Two demos on one address must not sign each other out.
_PORT = _get("PORT")
SESSION_COOKIE_NAME = f"watchtide_session{'_' + _PORT if _PORT else ''}"
CSRF_COOKIE_NAME = f"watchtide_csrf{'_' + _PORT if _PORT else ''}"
# 1 or true, in the environment or in TOML.
IS_HTTPS = _get("HTTPS").lower() in ("1", "true", "yes")
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = IS_HTTPS
# Addresses of proxies whose word on where a request comes from is taken, and who may read /metrics without a token.
TRUSTED_PROXIES = [n.strip() for n in _get("TRUSTED_PROXIES").split(",") if n.strip()]
METRICS_FROM = [n.strip() for n in _get("METRICS_FROM", "127.0.0.0/8,::1").split(",") if n.strip()]
DATA_UPLOAD_MAX_MEMORY_SIZE = 8 * 2**20
FILE_UPLOAD_MAX_MEMORY_SIZE = 2 * 2**20

TASKS = {
    "default": {
        "BACKEND": "django_tasks_db.DatabaseBackend",
        "QUEUES": ["interactive", "bulk"],
        "ENQUEUE_ON_COMMIT": False,
    }
}

REST_FRAMEWORK = {
    "DEFAULT_AUTHENTICATION_CLASSES": [
        "watchtide.server.people.access.Session",
        "watchtide.server.people.access.Bearer",
    ],
    "DEFAULT_PERMISSION_CLASSES": ["watchtide.server.people.access.ByRole"],
    "DEFAULT_RENDERER_CLASSES": ["rest_framework.renderers.JSONRenderer"],
    "DEFAULT_PARSER_CLASSES": ["rest_framework.parsers.JSONParser"],
    "DEFAULT_CONTENT_NEGOTIATION_CLASS": "watchtide.server.negotiation.AsItIs",
    "DEFAULT_SCHEMA_CLASS": "drf_spectacular.openapi.AutoSchema",
    "EXCEPTION_HANDLER": "watchtide.server.problems.handle",
    "UNAUTHENTICATED_USER": "django.contrib.auth.models.AnonymousUser",
}
SPECTACULAR_SETTINGS = {
    "TITLE": "Watch Tide",
    "VERSION": "1",
    "DESCRIPTION": "Scan metric streams for anomalies, and count how far the scan can be trusted.",
    "SERVE_INCLUDE_SCHEMA": False,
    "SERVE_PERMISSIONS": ["rest_framework.permissions.AllowAny"],
    "SERVE_AUTHENTICATION": [],
    "COMPONENT_SPLIT_REQUEST": True,
    "ENUM_NAME_OVERRIDES": {
        "VerdictEnum": "watchtide.server.logbook.models.VERDICT_CHOICES",
        "JudgementEnum": "watchtide.server.logbook.models.JUDGEMENT_CHOICES",
        "RoundKindEnum": "watchtide.server.review.models.KINDS",
        "JobStateEnum": "watchtide.server.jobs.models.STATE_CHOICES",
    },
}
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "handlers": {"console": {"class": "logging.StreamHandler"}},
    "root": {"handlers": ["console"], "level": "WARNING"},
    "loggers": {"django_tasks_db": {"level": "WARNING"}, "django.request": {"level": "ERROR"}},
}
