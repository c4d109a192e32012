"""Secrets at rest, sealed with a key outside the database (Fernet: AES-128 in CBC with HMAC-SHA256)."""

from __future__ import annotations

import os
from functools import cache
from pathlib import Path

from cryptography.fernet import Fernet, InvalidToken

from fair_ladle.app.plumbing.settings import Settings

KEY_FILE = "secret.key"
SEALED = "sealed:"
"""What every sealed text begins with; one without was kept before secrets were sealed."""


def seal(settings: Settings, plain: str) -> str:
    """A secret as it is kept."""
    return SEALED + _fernet(settings.home, settings.secret_key).encrypt(plain.encode()).decode()


def unseal(settings: Settings, kept: str) -> str | None:
    """A secret again; None where it was sealed with another key."""
    if not kept.startswith(SEALED):
        return kept
    try:
        return _fernet(settings.home, settings.secret_key).decrypt(kept.removeprefix(SEALED)).decode()
    except InvalidToken:
        return None


def sealed(settings: Settings, kept: str) -> str:
    """What is kept, sealed now where it was not yet."""
    return kept if kept.startswith(SEALED) else seal(settings, kept)


@cache
def _fernet(home: Path, key: str | None) -> Fernet:
    return Fernet(key or _own_key(home))


def _own_key(home: Path) -> bytes:
    """The key of this home, made when it is first needed; whoever comes second takes the one that is there."""
    path = home / KEY_FILE
    made = path.with_suffix(f".{os.getpid()}.new")
    if not path.exists():
        with os.fdopen(os.open(made, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "wb") as file:
            file.write(Fernet.generate_key())
        try:
            os.link(made, path)
        except FileExistsError:
            pass
        finally:
            made.unlink()
    return path.read_bytes()
