"""The ASGI application."""

import gc
import os
import warnings

from watchtide import kernels

kernels.use_cache()
# Static files come from memory in one piece; Django warns of any file it cannot stream asynchronously.
warnings.filterwarnings("ignore", message="StreamingHttpResponse must consume synchronous iterators")
os.environ.setdefault("DJANGO_SETTINGS_MODULE", "watchtide.server.settings")

from django.core.asgi import get_asgi_application  # noqa: E402

unbounded = get_asgi_application()

# What it imports needs Django's apps.
from watchtide.server.bounds import Bounded  # noqa: E402

application = Bounded(unbounded)

# A pushed message is some ten thousand small tuples that live as long as its request; looking through all of them for
# cycles again and again takes time and makes single answers slow. What is loaded by now stays anyway.
gc.freeze()
gc.set_threshold(100_000, 20, 100)
