"""What can be set: by WATCHTIDE_… in the environment, or by the same name in lower case in watchtide.toml. Listed in
docs/operations.md; the environment comes first."""

import difflib
import ipaddress
import os
import re
import tomllib
from collections.abc import Mapping
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BeforeValidator, Field, SecretStr, ValidationError
from pydantic_settings import (
    BaseSettings,
    NoDecode,
    PydanticBaseSettingsSource,
    SettingsConfigDict,
    TomlConfigSettingsSource,
)

PREFIX = "WATCHTIDE_"
# Of the environment only: where the file lies, and the kernels' cache, which the command line has too.
ELSEWHERE = ("config", "cache")
LEAST_SECRET = 32


class ConfigError(ValueError):
    """A setting is unknown or has a value it cannot have; the message names it and the remedy."""


def _listed(value: Any) -> Any:
    """A list, or its elements separated by commas."""
    return [part.strip() for part in value.split(",") if part.strip()] if isinstance(value, str) else value


def _networks(value: list[str]) -> list[str]:
    for text in value:
        try:
            ipaddress.ip_network(text, strict=False)
        except ValueError:
            raise ValueError(f"{text!r} is no address and no network; write 10.0.0.0/8 or ::1") from None
    return value


def _destinations(value: list[str]) -> list[str]:
    """Networks, or IPv4 addresses with a port."""
    for text in value:
        address, _, port = text.partition(":") if text.count(":") == 1 else (text, "", "")
        if port and not (port.isdigit() and 0 < int(port) < 65536):
            raise ValueError(f"the port of {text!r} is no number from 1 to 65535")
        _networks([address])
    return value


def _bucket(value: str) -> str:
    """An object store with a bucket, or nothing."""
    if value and not re.fullmatch(r"s3://[a-z0-9][a-z0-9.-]{1,61}[a-z0-9](/[\w.=-]+)*/?", value):
        raise ValueError(f"{value!r} is no place in an object store; write s3://bucket or s3://bucket/folder")
    return value.rstrip("/")


Texts = Annotated[list[str], NoDecode, BeforeValidator(_listed)]
Networks = Annotated[Texts, AfterValidator(_networks)]
Destinations = Annotated[Texts, AfterValidator(_destinations)]
Positive = Annotated[int, Field(ge=1)]
Count = Annotated[int, Field(ge=0)]


class Config(BaseSettings):
    """The settings and what each is when it is not stated. Sizes in MB are of 2**20 bytes."""

    model_config = SettingsConfigDict(env_prefix=PREFIX, extra="forbid", env_ignore_empty=True)

    demo: bool = False
    home: Path | None = None
    admin_name: str = ""
    admin_password: SecretStr = SecretStr("")
    port: Annotated[int, Field(ge=0, le=65535)] = 0
    secret_key: SecretStr = SecretStr("")
    hosts: Texts = ["127.0.0.1", "localhost"]
    origins: Texts = []
    https: bool = False
    trusted_proxies: Networks = []
    metrics_from: Networks = ["127.0.0.0/8", "::1"]
    outgoing: Destinations = []

    db_socket: str = ""
    db_host: str = ""
    db_port: Annotated[int, Field(ge=1, le=65535)] = 3306
    db_name: str = "watchtide"
    db_user: str = "watchtide"
    db_password: SecretStr = SecretStr("")
    # Of one web process, each with a connection to the database.
    requests_at_once: Positive = 40

    data: Path = Path.home() / ".local/share/watchtide"
    stage_cache_mb: Count = 2048
    most_upload_mb: Positive = 8192
    most_uploads_mb: Positive = 32768
    most_looked_at_mb: Positive = 32
    least_free_mb: Count = 512
    most_push_mb: Positive = 16
    most_push_unpacked_mb: Positive = 64
    pushes_a_minute: Positive = 1200
    points_a_minute: Positive = 6_000_000

    upload_days: Positive = 7
    undo_days: Count = 7
    trail_days: Positive = 730
    token_days: Positive = 365
    session_days: Positive = 14
    session_idle_minutes: Positive = 720
    invitation_days: Positive = 7

    job_lease_seconds: Annotated[float, Field(gt=0)] = 15.0
    scan_processes: Positive = min(os.cpu_count() or 1, 4)
    log_format: Literal["console", "json"] = "console"
    log_level: Literal["debug", "info", "warning", "error"] = "info"

    # Files in an object store instead of the data folder, so that several hosts see them.
    files: Annotated[str, AfterValidator(_bucket)] = ""
    files_endpoint: str = ""
    files_key: str = ""
    files_secret: SecretStr = SecretStr("")

    # The scheduler of a cluster that scans, and the files that tls:// needs.
    dask: str = ""
    dask_ca: str = ""
    dask_certificate: str = ""
    dask_key: str = ""
    dask_plain: bool = False

    # Where people reach the application, as links in mail have it; and the server that takes its mail.
    address: str = ""
    mail_from: str = ""
    demo_page: str = ""
    smtp_host: str = ""
    smtp_port: Annotated[int, Field(ge=1, le=65535)] = 25
    smtp_user: str = ""
    smtp_password: SecretStr = SecretStr("")
    smtp_tls: Literal["off", "starttls", "tls"] = "off"

    @classmethod
    def settings_customise_sources(
        cls,
        settings_cls: type[BaseSettings],
        init_settings: PydanticBaseSettingsSource,
        env_settings: PydanticBaseSettingsSource,
        dotenv_settings: PydanticBaseSettingsSource,
        file_secret_settings: PydanticBaseSettingsSource,
    ) -> tuple[PydanticBaseSettingsSource, ...]:
        return env_settings, TomlConfigSettingsSource(settings_cls, toml_file=file_of(os.environ))


def file_of(environment: Mapping[str, str]) -> Path:
    return Path(environment.get(f"{PREFIX}CONFIG") or "watchtide.toml")


def load() -> Config:
    """Settings from the environment and the file. Raises ConfigError for the first that cannot stand."""
    file = file_of(os.environ)
    if os.environ.get(f"{PREFIX}CONFIG") and not file.is_file():
        raise ConfigError(f"{PREFIX}CONFIG: there is no file {file}; correct the path")
    for name in os.environ:
        if name.startswith(PREFIX):
            _check_known(name, name.removeprefix(PREFIX).lower(), upper=True)
    try:
        return Config()
    except ValidationError as error:
        raise ConfigError(_words(error, file)) from None
    except tomllib.TOMLDecodeError as error:
        raise ConfigError(f"{file}: {error}; correct the file") from None
    except OSError as error:
        raise ConfigError(f"{file}: {error.strerror}; let it be read") from None


def is_secret_enough(config: Config) -> bool:
    return len(config.secret_key.get_secret_value()) >= LEAST_SECRET


def no_secret() -> str:
    return f"no secret key; set {PREFIX}SECRET_KEY (or secret_key in watchtide.toml) to {LEAST_SECRET} characters or more"


def _check_known(place: str, name: str, *, upper: bool = False) -> None:
    known = [*Config.model_fields, *(ELSEWHERE if upper else ())]
    if name in known:
        return
    near = difflib.get_close_matches(name, known, 1, 0.5)
    shown = [f"{PREFIX}{n.upper()}" if upper else n for n in near]
    remedy = f"did you mean {shown[0]}?" if shown else "docs/operations.md lists what can be set"
    raise ConfigError(f"{place} is not a setting; {remedy}")


def _words(error: ValidationError, file: Path) -> str:
    """The first problem in one sentence: where it is stated, and what it must be."""
    found = error.errors(include_url=False, include_input=False)[0]
    name = str(found["loc"][0])
    is_in_environment = f"{PREFIX}{name.upper()}" in os.environ
    place = f"{PREFIX}{name.upper()}" if is_in_environment else f"{name} in {file}"
    if found["type"] == "extra_forbidden":
        try:
            _check_known(place, name)
        except ConfigError as unknown:
            return str(unknown)
    return f"{place}: {found['msg'].removeprefix('Value error, ')}"
