"""The ASGI application."""

import os

from watchtide import kernels

kernels.use_cache()
os.environ.setdefault("DJANGO_SETTINGS_MODULE", "watchtide.server.settings")

from django.core.asgi import get_asgi_application  # noqa: E402

application = get_asgi_application()
