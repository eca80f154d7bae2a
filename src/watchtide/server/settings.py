"""Settings, from the environment or watchtide.toml; see docs/operations.md."""

from pathlib import Path

from watchtide.server import config, logs

_stated = config.load()
_ROOT = Path(__file__).resolve().parents[3]
_MB = 2**20

IS_DEMO = _stated.demo
SECRET_KEY = _stated.secret_key.get_secret_value() or "only-for-commands-that-serve-nobody"
DEBUG = False
ALLOWED_HOSTS = _stated.hosts
CSRF_TRUSTED_ORIGINS = _stated.origins

# Where caches and uploads lie; safe to delete while nothing runs.
DATA_FOLDER = _stated.data
# Where files lie that all hosts see; "" is the data folder. What s3fs is given; without a key it takes what its own environment says.
FILES = _stated.files
FILES_OPTIONS = tuple(
    (name, value)
    for name, value in (
        ("endpoint_url", _stated.files_endpoint),
        ("key", _stated.files_key),
        ("secret", _stated.files_secret.get_secret_value()),
    )
    if value
)
STAGE_CACHE_BYTES = _stated.stage_cache_mb * _MB
MOST_UPLOAD_BYTES = _stated.most_upload_mb * _MB
# How much of a file is looked at before it is stored; the rest is read once, when it is.
MOST_LOOKED_AT = _stated.most_looked_at_mb * _MB
# Files handed in are kept for so many days, and all together up to this much; intake stops while less than this is free.
UPLOAD_DAYS = _stated.upload_days
MOST_UPLOADS_BYTES = _stated.most_uploads_mb * _MB
LEAST_FREE_BYTES = _stated.least_free_mb * _MB
UNDO_DAYS = _stated.undo_days
TRAIL_DAYS = _stated.trail_days
TOKEN_DAYS = _stated.token_days
INVITATION_DAYS = _stated.invitation_days
# Pushes: bytes as sent, bytes unpacked, and what one token may send in a minute.
MOST_PUSH_BYTES = _stated.most_push_mb * _MB
MOST_PUSH_INFLATED = _stated.most_push_unpacked_mb * _MB
PUSHES_A_MINUTE = _stated.pushes_a_minute
POINTS_A_MINUTE = _stated.points_a_minute
REQUESTS_AT_ONCE = _stated.requests_at_once
# Networks and addresses that feeds may be fetched from; none unless named.
OUTGOING = _stated.outgoing
# Links in mail begin with it.
ADDRESS = (_stated.address or next(iter(_stated.origins), f"http://127.0.0.1:{_stated.port or 8400}")).rstrip(
    "/"
)
MAIL_FROM = _stated.mail_from or "Watch Tide <watchtide@localhost>"
# Where the demo's own mail can be read.
DEMO_PAGE = _stated.demo_page
SMTP_HOST = _stated.smtp_host
SMTP_PORT = _stated.smtp_port
SMTP_USER = _stated.smtp_user
SMTP_PASSWORD = _stated.smtp_password.get_secret_value()
SMTP_TLS = _stated.smtp_tls
JOB_LEASE_SECONDS = _stated.job_lease_seconds
SCAN_PROCESSES = _stated.scan_processes
# Where scans run: on a cluster if one is named, else in processes of this host.
DASK = _stated.dask
DASK_FILES = {"ca": _stated.dask_ca, "certificate": _stated.dask_certificate, "key": _stated.dask_key}
DASK_PLAIN = _stated.dask_plain

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
    "watchtide.server.lookouts",
    "watchtide.server.boards",
    "watchtide.server.looks",
]
MIDDLEWARE = [
    "watchtide.server.logs.Requests",
    "watchtide.server.security.SecurityHeaders",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "watchtide.server.packing.Packed",
    "django.middleware.http.ConditionalGetMiddleware",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "watchtide.server.people.sessions.OpenSessions",
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
        "NAME": _stated.db_name,
        "USER": _stated.db_user,
        "PASSWORD": _stated.db_password.get_secret_value(),
        "HOST": _stated.db_socket or _stated.db_host or "127.0.0.1",
        "PORT": "" if _stated.db_socket else str(_stated.db_port),
        # Threads come and go under ASGI: a kept connection would belong to none of them.
        "CONN_MAX_AGE": 0,
        "OPTIONS": {
            "charset": "utf8mb4",
            "isolation_level": "read committed",
            # A host that goes in the middle of a transaction must not keep its rows locked for the eight hours that MariaDB waits.
            "init_command": "SET sql_mode='STRICT_ALL_TABLES', time_zone='+00:00', idle_transaction_timeout=600",
        },
        "TEST": {"CHARSET": "utf8mb4", "COLLATION": "utf8mb4_bin"},
    }
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
USE_TZ = True
TIME_ZONE = "UTC"
LANGUAGE_CODE = "en-gb"


def _built(name: str) -> Path:
    """Where a part of the page lies as it was built: in an installed package with it, in a checkout beside its source."""
    packed = Path(__file__).parent / "built" / name
    return packed if packed.is_dir() else _ROOT / "web" / name


# The guide as `./run docs` builds it. Not among the static files: those are looked up once, and this is built again beside a running server.
GUIDE = _built("guide")

STATIC_URL = "/static/"
STATICFILES_DIRS = [_built("dist")] if _built("dist").is_dir() else []
WHITENOISE_USE_FINDERS = True
WHITENOISE_AUTOREFRESH = False
# The bundler names files by their content: they never change, and a year is as good as ever.
WHITENOISE_IMMUTABLE_FILE_TEST = r"^/static/assets/.+-[A-Za-z0-9_-]{8}\.[a-z0-9]+$"

AUTH_PASSWORD_VALIDATORS = [
    {"NAME": "django.contrib.auth.password_validation.MinimumLengthValidator", "OPTIONS": {"min_length": 12}},
    {"NAME": "django.contrib.auth.password_validation.CommonPasswordValidator"},
]
CSRF_FAILURE_VIEW = "watchtide.server.problems.no_csrf"
SESSION_COOKIE_HTTPONLY = True
SESSION_COOKIE_SAMESITE = "Lax"
# Two demos on one address must not sign each other out.
_OF_PORT = f"_{_stated.port}" if _stated.port else ""
SESSION_COOKIE_NAME = f"watchtide_session{_OF_PORT}"
CSRF_COOKIE_NAME = f"watchtide_csrf{_OF_PORT}"
# A session ends after this whatever happens, and earlier when it is not used.
SESSION_COOKIE_AGE = _stated.session_days * 86_400
SESSION_IDLE_MINUTES = _stated.session_idle_minutes
IS_HTTPS = _stated.https
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = IS_HTTPS
# Addresses of proxies whose word on where a request comes from is taken, and who may read /metrics without a token.
TRUSTED_PROXIES = _stated.trusted_proxies
METRICS_FROM = _stated.metrics_from
DATA_UPLOAD_MAX_MEMORY_SIZE = 8 * 2**20
FILE_UPLOAD_MAX_MEMORY_SIZE = 2 * 2**20

# What somebody waits for, what takes long, and what lookouts have to judge, which waits for neither.
LANES = ("interactive", "bulk", "watch")
TASKS = {
    "default": {
        "BACKEND": "django_tasks_db.DatabaseBackend",
        "QUEUES": list(LANES),
        "ENQUEUE_ON_COMMIT": False,
    }
}

# Forecasts of the last minutes, a few a process: moving a limit over one needs no new fit.
CACHES = {
    "default": {"BACKEND": "django.core.cache.backends.locmem.LocMemCache"},
    "forecasts": {
        "BACKEND": "django.core.cache.backends.locmem.LocMemCache",
        "LOCATION": "forecasts",
        "TIMEOUT": 600,
        "OPTIONS": {"MAX_ENTRIES": 8},
    },
}
REST_FRAMEWORK = {
    "DEFAULT_AUTHENTICATION_CLASSES": [
        "watchtide.server.people.access.Session",
        "watchtide.server.people.access.Bearer",
    ],
    "DEFAULT_PERMISSION_CLASSES": ["watchtide.server.people.access.ByRole"],
    "DEFAULT_RENDERER_CLASSES": ["watchtide.server.negotiation.Json"],
    "DEFAULT_PARSER_CLASSES": ["watchtide.server.negotiation.FiniteJson"],
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
    "POSTPROCESSING_HOOKS": [
        "drf_spectacular.hooks.postprocess_schema_enums",
        "watchtide.server.document.complete",
    ],
    "SERVE_PERMISSIONS": ["rest_framework.permissions.AllowAny"],
    "SERVE_AUTHENTICATION": [],
    "COMPONENT_SPLIT_REQUEST": True,
    "ENUM_NAME_OVERRIDES": {
        "VerdictEnum": "watchtide.server.logbook.models.VERDICT_CHOICES",
        "JudgementEnum": "watchtide.server.logbook.models.JUDGEMENT_CHOICES",
        "RoundKindEnum": "watchtide.server.review.models.KINDS",
        "RouteKindEnum": "watchtide.server.lookouts.models.KINDS",
        "RouteStateEnum": "watchtide.server.lookouts.models.ROUTE_STATES",
        "JobStateEnum": "watchtide.server.jobs.models.STATE_CHOICES",
    },
}
LOGGING = logs.configuration(_stated.log_format, _stated.log_level)
