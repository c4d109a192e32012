"""What seals the log: a key that the database never holds, and anchors outside it that say how far the chain was.

Each entry carries a code made with the key (HMAC-SHA256, RFC 2104) when it is written, so that a row that somebody else
puts into the table is seen; each seal is made from the one before it, so that none can be taken out or changed. The
newest seal is written to a file at each sealing, so that the end of the chain cannot be cut off.
"""

from __future__ import annotations

import hashlib
import hmac
import json
import os
import secrets
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

KEY, ANCHORS = "log.key", "log-anchors.txt"
KEY_BYTES = 32


@dataclass(frozen=True)
class Key:
    """The key, and the newest entry there was when it was made: what is older carries no code."""

    secret: bytes
    older: int

    def code(self, content: list[Any]) -> str:
        """The code of an entry, or a seal."""
        told = json.dumps(content, sort_keys=True, ensure_ascii=False).encode()
        return hmac.new(self.secret, told, hashlib.sha256).hexdigest()


@lru_cache(64)
def _read(file: Path) -> Key:
    secret, older = file.read_text().split()
    return Key(bytes.fromhex(secret), int(older))


def key(folder: Path, newest: Callable[[], int], shared: str | None = None) -> Key:
    """The key of an installation, made when it is first needed: of the ``shared`` secret where there is one. Servers
    that share a database share that secret, or this file."""
    file = folder / KEY
    try:
        return _read(file)
    except FileNotFoundError:
        _make(file, newest, shared)
    return _read(file)


def _make(file: Path, newest: Callable[[], int], shared: str | None) -> None:
    file.parent.mkdir(parents=True, exist_ok=True)
    half_done = file.with_name(f"{KEY}.{os.getpid()}.{secrets.token_hex(4)}")
    half_done.touch(mode=0o600)
    made = secrets.token_bytes(KEY_BYTES) if shared is None else hmac.digest(shared.encode(), b"log", "sha256")
    half_done.write_text(f"{made.hex()} {newest()}\n")
    try:
        os.link(half_done, file)
    except FileExistsError:
        pass  # another process was first
    finally:
        half_done.unlink()


def anchor(folder: Path, database: str, number: int, seal: str) -> None:
    """Say outside the database how far the chain is."""
    with (folder / ANCHORS).open("a") as file:
        os.fchmod(file.fileno(), 0o600)
        file.write(f"{database} {number} {seal}\n")


def anchors(folder: Path, database: str) -> dict[int, str]:
    """What was said of a database's chain: seals by their number."""
    file = folder / ANCHORS
    lines = (line.split() for line in (file.read_text().splitlines() if file.exists() else []))
    return {int(line[1]): line[2] for line in lines if len(line) == 3 and line[0] == database}
