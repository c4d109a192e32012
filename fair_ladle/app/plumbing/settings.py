"""Where this installation keeps its things, read from the environment once."""

from __future__ import annotations

import base64
import os
from dataclasses import dataclass
from ipaddress import IPv4Network, IPv6Network, ip_network
from pathlib import Path

DEFAULT_PORT = 8471
PROJECT = Path(__file__).resolve().parents[3]


@dataclass(frozen=True)
class Settings:
    """``home`` holds the data; ``database_url`` points at another MariaDB, or is None for one of our own.

    ``smtp_url`` is where mail is handed in (None = mail waits), ``mail_from`` who it comes from, ``address`` what links
    in mails begin with, ``proxy`` the address of the proxy whose X-Forwarded-For and -Proto are believed (None =
    nobody's), ``outbound`` the addresses of this machine and network that connections may go to, ``metrics`` whom the
    figures for Prometheus are told (addresses and networks, with commas between), ``workers`` how many processes
    answer requests (None = as many as there are cores, four at most), and ``secret_key`` what secrets in the database
    are sealed with (None = the key in the home, made there when it is first needed), and ``storage_roots`` the folders
    of this machine below which sizes may be read (paths with colons between; None = nowhere).
    """

    home: Path
    database_url: str | None
    smtp_url: str | None = None
    mail_from: str = "Fair Ladle <fair-ladle@localhost>"
    address: str = f"http://127.0.0.1:{DEFAULT_PORT}"
    proxy: str | None = None
    metrics: str | None = None
    workers: int | None = None
    outbound: str | None = None
    secret_key: str | None = None
    storage_roots: str | None = None

    @staticmethod
    def read() -> Settings:
        """From FAIR_LADLE_HOME (``.data`` beside the program if not said), FAIR_LADLE_DATABASE_URL, FAIR_LADLE_SMTP,
        FAIR_LADLE_MAIL_FROM, FAIR_LADLE_ADDRESS (this machine at FAIR_LADLE_PORT if not said), FAIR_LADLE_PROXY,
        FAIR_LADLE_METRICS, FAIR_LADLE_WORKERS, FAIR_LADLE_OUTBOUND, FAIR_LADLE_SECRET_KEY and
        FAIR_LADLE_STORAGE_ROOTS."""
        home = os.environ.get("FAIR_LADLE_HOME") or PROJECT / ".data"
        return Settings(
            Path(home).resolve(),
            os.environ.get("FAIR_LADLE_DATABASE_URL") or None,
            os.environ.get("FAIR_LADLE_SMTP") or None,
            os.environ.get("FAIR_LADLE_MAIL_FROM") or Settings.mail_from,
            (
                os.environ.get("FAIR_LADLE_ADDRESS")
                or f"http://127.0.0.1:{os.environ.get('FAIR_LADLE_PORT') or DEFAULT_PORT}"
            ).rstrip("/"),
            os.environ.get("FAIR_LADLE_PROXY") or None,
            _networks("FAIR_LADLE_METRICS"),
            _count("FAIR_LADLE_WORKERS"),
            _networks("FAIR_LADLE_OUTBOUND"),
            _fernet_key("FAIR_LADLE_SECRET_KEY"),
            os.environ.get("FAIR_LADLE_STORAGE_ROOTS") or None,
        )


def networks(listed: str | None) -> tuple[IPv4Network | IPv6Network, ...]:
    """What a setting names of addresses and networks."""
    return tuple(ip_network(each.strip(), strict=False) for each in (listed or "").split(",") if each.strip())


def _networks(name: str) -> str | None:
    """Addresses and networks with commas between."""
    found = os.environ.get(name) or None
    for each in (found or "").split(","):
        try:
            ip_network(each.strip() or "127.0.0.1", strict=False)
        except ValueError:
            raise SystemExit(
                f"{name}: addresses or networks such as 127.0.0.1, 10.0.0.0/8; not {each.strip()}."
            ) from None
    return found


def _fernet_key(name: str) -> str | None:
    """32 bytes in URL-safe base 64."""
    found = os.environ.get(name) or None
    try:
        if found is not None and len(base64.urlsafe_b64decode(found)) != 32:
            raise ValueError
    except ValueError:
        raise SystemExit(f"{name}: 32 random bytes in URL-safe base 64, 44 characters.") from None
    return found


def _count(name: str) -> int | None:
    """A number from 1 on."""
    found = os.environ.get(name) or None
    if found is not None and not (found.isascii() and found.isdigit() and int(found) > 0):
        raise SystemExit(f"{name}: a number from 1 on; not {found}.")
    return None if found is None else int(found)
