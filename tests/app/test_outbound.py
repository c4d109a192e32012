"""Connections go nowhere that nobody listed, whatever a name says it is."""

from __future__ import annotations

import socket
from ipaddress import ip_address, ip_network
from pathlib import Path
from typing import Any

import pytest

from fair_ladle.connectors.mail import Smtp, StandIn
from fair_ladle.connectors.outbound import NotListed, look_up

OWN = (ip_network("10.1.0.0/16"),)


@pytest.mark.parametrize(
    ("found", "to"),
    [
        (["127.0.0.1"], None),
        (["::1"], None),
        (["169.254.169.254"], None),
        (["10.2.0.1"], None),
        (["192.168.1.1", "fd00::1", "fe80::1"], None),
        (["100.64.0.1"], None),
        (["0.0.0.0"], None),
        (["::ffff:127.0.0.1"], None),
        (["224.0.0.1"], None),
        (["10.1.9.9"], "10.1.9.9"),
        (["::ffff:10.1.9.9"], "::ffff:10.1.9.9"),
        (["8.8.4.4"], "8.8.4.4"),
        (["127.0.0.1", "2001:4860:4860::8844"], "2001:4860:4860::8844"),
    ],
)
def test_what_a_name_may_stand_for(monkeypatch: pytest.MonkeyPatch, found: list[str], to: str | None) -> None:
    def answers(host: str, port: int, **_: Any) -> list[Any]:
        return [(socket.AF_INET, socket.SOCK_STREAM, 6, "", (each, port)) for each in found]

    monkeypatch.setattr(socket, "getaddrinfo", answers)
    if to is None:
        with pytest.raises(NotListed, match="name it in FAIR_LADLE_OUTBOUND"):
            look_up("mail.example", 25, OWN)
    else:
        assert look_up("mail.example", 25, OWN) == ip_address(to)


def test_a_name_is_looked_up_once(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    """Who answers with another address the second time reaches nothing: there is no second time."""
    stand_in, asked = StandIn(tmp_path), list[str]()
    try:
        address = stand_in.start().replace("127.0.0.1", "mail.example")

        def answers(host: str, port: int, *_: Any, **__: Any) -> list[Any]:
            asked.append(host)
            return [(socket.AF_INET, socket.SOCK_STREAM, 6, "", ("127.0.0.1", port))]

        monkeypatch.setattr(socket, "getaddrinfo", answers)
        Smtp(address, "us@x.example", (ip_network("127.0.0.1"),)).deliver("ida@x.example", "Hello", "there\n")
        assert asked.count("mail.example") == 1
        with pytest.raises(NotListed):
            Smtp(address, "us@x.example").deliver("ida@x.example", "Hello", "there\n")
    finally:
        stand_in.stop()
