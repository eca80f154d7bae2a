"""What a worker of a cluster does before its first task; Dask reads this first (`--preload`)."""

import os
from typing import Any

from watchtide import kernels

kernels.use_cache()


def dask_setup(_: Any) -> None:
    """Compiled kernels and one numeric thread; and where the environment names a server's database, one of its processes."""
    import numba

    from watchtide import warm
    from watchtide.engine.many import clusters

    warm.main()
    # Of the code that this process has read, and not of what lies there when the first task comes.
    clusters.code_digest()

    numba.set_num_threads(1)
    if os.environ.get("DJANGO_SETTINGS_MODULE"):
        import django

        django.setup()
