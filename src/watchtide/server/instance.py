"""Where the databases and caches of this checkout lie, and the MariaDB that `./run serve` and `./run demo` start there."""

import hashlib
import os
from pathlib import Path

from watchtide.server import config
from watchtide.server.mariadb import Database

ROOT = Path(__file__).resolve().parents[3]


def home() -> Path:
    """Where databases and caches lie: WATCHTIDE_HOME, else the user's data folder, one a checkout."""
    stated = config.load().home
    if stated is not None:
        return stated
    checkout = hashlib.sha256(str(ROOT).encode()).hexdigest()[:8]
    if os.geteuid() == 0:
        # MariaDB runs as somebody else then, who cannot look into root's home.
        return Path("/var/lib/watchtide") / checkout
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local/share") / "watchtide" / checkout


def data_of(stated: config.Config, folder: Path) -> Path:
    """Where files lie: as stated, else beside the instance's database."""
    return stated.data if "data" in stated.model_fields_set else folder / "data"


def find(stated: config.Config) -> None:
    """State the own instance to what is started from here, if one runs and no database is stated.

    The demo's is found with WATCHTIDE_DEMO=1 and its WATCHTIDE_PORT.
    """
    if stated.db_host or stated.db_socket:
        return
    folder = home() / (f"demo-{stated.port or 8400}" if stated.demo else "serve")
    database = Database(folder)
    if database.socket.exists() and (folder / "db.password").exists():
        os.environ |= database.environment()
        os.environ["WATCHTIDE_DATA"] = str(data_of(stated, folder))
