"""Where compiled kernels are kept: a folder keyed by the digest of the numerics' source.

Numba's own check looks at one file at a time and would serve a kernel that has an older one of another
file compiled into it. Call `use_cache()` before anything imports Numba.
"""

import hashlib
import os
from pathlib import Path


def _default_root() -> str:
    """The user's cache folder; `WATCHTIDE_CACHE` names another, as the run script does."""
    return os.path.join(os.environ.get("XDG_CACHE_HOME") or os.path.expanduser("~/.cache"), "watchtide")


def cache_folder() -> Path:
    """The folder for the present source, under WATCHTIDE_CACHE or the user's cache folder."""
    # The place counts too: Numba keeps kernels apart by the path of their source, so those of another checkout are none of ours.
    digest = hashlib.sha256(str(Path(__file__).parent).encode())
    for file in sorted((Path(__file__).parent / "core").rglob("*.py")):
        digest.update(file.read_bytes())
    root = os.environ.get("WATCHTIDE_CACHE") or _default_root()
    return Path(root) / "kernels" / digest.hexdigest()[:16]


def use_cache() -> None:
    os.environ.setdefault("NUMBA_CACHE_DIR", str(cache_folder()))
    # One thread each: streams are what runs in parallel, and sums come out the same everywhere.
    for name in ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS"):
        os.environ.setdefault(name, "1")
