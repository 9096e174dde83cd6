"""Where a request comes from: the caller's own address, not one that the caller makes up."""

from functools import cache
from ipaddress import IPv4Network, IPv6Network, ip_address, ip_network

from django.conf import settings
from django.http import HttpRequest


@cache
def _networks(proxies: tuple[str, ...]) -> list[IPv4Network | IPv6Network]:
    return [ip_network(p.strip(), strict=False) for p in proxies if p.strip()]


def client_address(request: HttpRequest) -> str:
    """The address of the client. What X-Forwarded-For says is believed from trusted proxies only, from the right."""
    address: str = request.META.get("REMOTE_ADDR", "")
    forwarded = [part.strip() for part in request.META.get("HTTP_X_FORWARDED_FOR", "").split(",") if part.strip()]
    while forwarded and _is_trusted(address):
        address = forwarded.pop()
    return address[:60]


def _is_trusted(address: str) -> bool:
    try:
        known = ip_address(address)
    except ValueError:
        return False
    return any(known in network for network in _networks(tuple(settings.TRUSTED_PROXIES)))
