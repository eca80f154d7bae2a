"""The address a request comes from: the peer's, or what a trusted proxy states."""

import ipaddress
from collections.abc import Sequence

from django.conf import settings
from django.http import HttpRequest


def is_among(address: str, networks: Sequence[str]) -> bool:
    """Whether an address lies in one of these networks; what is no address lies in none."""
    try:
        own = ipaddress.ip_address(address.partition("%")[0])
    except ValueError:
        return False
    if isinstance(own, ipaddress.IPv6Address) and own.ipv4_mapped is not None:
        own = own.ipv4_mapped
    return any(own in ipaddress.ip_network(n, strict=False) for n in networks)


def of(request: HttpRequest) -> str:
    """The nearest address that is no trusted proxy. What a sender writes into the header itself counts for nothing."""
    address = request.META.get("REMOTE_ADDR") or ""
    stated = [
        part.strip() for part in request.META.get("HTTP_X_FORWARDED_FOR", "").split(",") if part.strip()
    ]
    while stated and is_among(address, settings.TRUSTED_PROXIES):
        address = stated.pop()
    return address
