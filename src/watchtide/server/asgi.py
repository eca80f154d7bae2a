"""The ASGI application."""

import os
import warnings

from watchtide import kernels

kernels.use_cache()
# Static files come from memory in one piece; Django warns of any file it cannot stream asynchronously.
warnings.filterwarnings("ignore", message="StreamingHttpResponse must consume synchronous iterators")
os.environ.setdefault("DJANGO_SETTINGS_MODULE", "watchtide.server.settings")

from django.core.asgi import get_asgi_application  # noqa: E402

application = get_asgi_application()
