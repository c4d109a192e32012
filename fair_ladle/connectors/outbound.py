"""Where connections may go: to addresses anybody on the internet has, and to those of one's own network that were
listed. A name is looked up once, and the connection is made to what was found."""

from __future__ import annotations

import socket
from collections.abc import Sequence
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network, ip_address

Address = IPv4Address | IPv6Address
Network = IPv4Network | IPv6Network


class NotListed(OSError):
    """An address of one's own machine or network that nobody listed."""


def plain(address: Address) -> Address:
    """The address that one which is packed into another stands for."""
    mapped = address.ipv4_mapped if isinstance(address, IPv6Address) else None
    return mapped or address


def is_listed(address: Address, listed: Sequence[Network]) -> bool:
    """Whether an address is in one of these networks."""
    return any(plain(address) in each for each in listed if each.version == plain(address).version)


def look_up(host: str, port: int, listed: Sequence[Network]) -> Address:
    """The address to connect to: the first of the host's that may be; NotListed where none may, OSError where there is
    none."""
    found = [ip_address(each[4][0]) for each in socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)]
    for each in found:
        if is_listed(each, listed) or (plain(each).is_global and not plain(each).is_multicast):
            return each
    said = ", ".join(str(each) for each in dict.fromkeys(found))
    raise NotListed(
        f"{host} is {said}, of this machine or network; name it in FAIR_LADLE_OUTBOUND if it shall be reached."
    )
