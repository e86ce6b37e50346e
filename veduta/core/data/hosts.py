"""Which hosts may be requested, and at which address.

A name is looked up once, checked, and that very address is connected to: the name cannot mean another place a moment
later."""

from __future__ import annotations

import ipaddress
import socket
from urllib.parse import SplitResult, urlsplit

from veduta.core.errors import VedutaError

Number = ipaddress.IPv4Address | ipaddress.IPv6Address
INNER_BITS = {"64:ff9b::/96": 0, "64:ff9b:1::/48": 0, "2002::/16": 80, "::/96": 0}
"""Networks of IPv6 whose numbers stand for one of IPv4, and how many bits stand to the right of it."""


def split_address(address: str, problem: type[VedutaError]) -> SplitResult:
    """The parts of an address, its port among them a number or none. Raises `problem` for what is no address."""
    try:
        parts = urlsplit(address)
        _ = parts.port
        return parts
    except ValueError:
        raise problem(f"“{address[:200]}” is not a web address.", hint="Check its host and its port.") from None


def resolve_host(host: str, port: int) -> set[str]:
    """The numbers a name stands for now; none if it is not known."""
    try:
        return {str(info[4][0]) for info in socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)}
    except (OSError, UnicodeError, ValueError):
        return set()


def must_be_open(host: str, port: int, numbers: set[str], allowed: frozenset[str], problem: type[VedutaError]) -> None:
    """Raise `problem` if a host's address is inside a private network.

    `allowed` may name the host ("name") or this port of it ("name:port")."""
    name = f"[{host}]" if ":" in host else host
    if not {host.lower(), f"{name}:{port}".lower()} & allowed and not all(map(is_public, numbers)):
        raise problem(
            f"“{name}:{port}” is inside a private network, where nothing is fetched from.",
            hint="A steward can allow the host in the settings.",
        )


def check_number(host: str, port: int, allowed: frozenset[str], problem: type[VedutaError]) -> str:
    """The number to connect to. Raises `problem` for a host that is not known or may not be asked."""
    numbers = resolve_host(host, port)
    if not numbers:
        raise problem(f"There is no host named “{host}”.", hint="Check the address.")
    must_be_open(host, port, numbers, allowed, problem)
    return sorted(numbers, key=lambda number: (":" in number, number))[0]


def is_public(number: str) -> bool:
    """Whether a number of a host is one that everybody can reach; one that stands for another is judged by that."""
    address = _unwrap_number(ipaddress.ip_address(number.partition("%")[0]))
    return address.is_global and not address.is_multicast


def _unwrap_number(address: Number) -> Number:
    if isinstance(address, ipaddress.IPv4Address):
        return address
    if address.ipv4_mapped:
        return address.ipv4_mapped
    for network, right in INNER_BITS.items():
        if address in ipaddress.ip_network(network) and int(address) > 1:
            return ipaddress.IPv4Address(int(address) >> right & 0xFFFFFFFF)
    return address
