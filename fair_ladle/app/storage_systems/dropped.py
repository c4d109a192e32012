"""Tables of sizes that other programs drop into a folder: each is recorded whole or not at all, and then lies beside,
under ``done`` or ``failed``, with why."""

from __future__ import annotations

import errno
import time
from collections.abc import Callable
from pathlib import Path
from typing import Protocol

from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.pools.service import Product
from fair_ladle.app.storage_systems import tables_in
from fair_ladle.connectors.storage import NotReached

MOST_BYTES, MOST_FILES = 50_000_000, 1000
QUIET_SECONDS = 2.0
READ = (".csv", ".tsv", ".txt", ".xlsx", ".jsonl", ".ndjson")


class Counts(Protocol):
    """What a run counts."""

    found: int
    recorded: int

    def trouble(self, subject: str, says: str) -> None:
        """Note what went wrong."""


def take_in(
    database: Database,
    actor: Actor,
    product: Product,
    folder: Path,
    dry: bool,
    count: Counts,
    going_on: Callable[[], bool],
) -> bool:
    """Record what was dropped, the earlier first; whether all of it was. A file that is still written to waits for the
    next run; one that was changed a moment ago is given that moment."""
    try:
        # What is not a file of its own here, such as a link, is left alone.
        files = [each for each in folder.iterdir() if each.is_file() and not each.is_symlink()]
        files = sorted((each for each in files if each.suffix.lower() in READ), key=lambda each: each.stat().st_mtime)
    except OSError as trouble:
        raise NotReached(f"{folder} cannot be read: {trouble.strerror or trouble}") from None
    if files and _age(files[-1]) < QUIET_SECONDS:
        time.sleep(QUIET_SECONDS)
    for file in files[:MOST_FILES]:
        if not going_on():
            return False
        if _age(file) < QUIET_SECONDS:
            continue
        faults = _one(database, actor, product, file, dry, count)
        for each in faults:
            count.trouble(file.name, each)
        if dry:
            continue
        try:
            _put_aside(file, faults)
        except OSError as trouble:  # it is read again the next time, which changes nothing
            count.trouble(file.name, f"cannot be put aside: {trouble.strerror or trouble}")
    return True


def _age(file: Path) -> float:
    """Seconds since a file was written to; one of the future is none of a moment ago."""
    try:
        return abs(time.time() - file.stat().st_mtime)
    except OSError:  # it is gone: whoever reads it finds that
        return QUIET_SECONDS


def _one(database: Database, actor: Actor, product: Product, file: Path, dry: bool, count: Counts) -> list[str]:
    """What is wrong with a file; nothing where it was recorded."""
    try:
        if file.stat().st_size > MOST_BYTES:
            return [f"over {MOST_BYTES // 10**6} MB"]
        found = tables_in.read(file.name, file.read_bytes(), {}, database.clock.now())
        count.found += len(found.rows)
        faults = [f"row {each.row}, {each.column}: {each.found}; expected {each.expected}" for each in found.faults]
        if not faults and not found.rows:
            faults = ["no columns of sizes: bytes, and a person, a folder or a category"]
        if faults:
            return faults
        asked = actor, product.code, str(actor.scope), found.rows
        if dry:
            wrong = database.snapshot(tables_in.without_place, *asked)
        else:
            done, wrong = database.run(tables_in.record, *asked)
            count.recorded += done
        return [
            f"row {each.row}, {each.column}: {each.found}; {each.expected}" for each in wrong[: tables_in.MOST_FAULTS]
        ]
    except Refused as refused:
        return [refused.problem.detail]
    except OSError as trouble:
        return [f"cannot be read: {trouble.strerror or trouble}"]


def _put_aside(file: Path, faults: list[str]) -> None:
    into = file.parent / ("failed" if faults else "done")
    if into.is_symlink():
        raise NotADirectoryError(errno.ENOTDIR, f"{into.name} is a link")
    into.mkdir(exist_ok=True)
    target = into / file.name
    number = 1
    while target.exists():
        number += 1
        target = into / f"{file.stem}-{number}{file.suffix}"
    if faults:
        target.with_suffix(target.suffix + ".log").write_text("\n".join(faults) + "\n", "utf-8", "replace")
    file.rename(target)
