"""Sizes of a tree of folders, one folder directly below the root a subject. Names deeper than that are never kept; what
is remembered between scans goes by device and inode.

Files count by their blocks, hard links once; symbolic links are not followed and mount points not crossed.
"""

from __future__ import annotations

import os
import stat
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from fair_ladle.connectors.storage import Found, GoingOn, NotReached, Trouble

BLOCK = 512
KEPT_AT_MOST = 20_000_000
AT_A_TIME = 2000
"""Entries between two looks at the clock."""


@dataclass
class Remembered:
    """Folders of an earlier scan: by inode when their entries last changed (ns) and the bytes of their own files."""

    folders: dict[int, tuple[int, int]] = field(default_factory=dict)

    @staticmethod
    def read(path: Path) -> Remembered:
        """As it was kept; nothing where it was not, or cannot be read."""
        try:
            with np.load(path, allow_pickle=False) as found:
                rows = found["folders"]
        except (OSError, ValueError, KeyError):
            return Remembered()
        return Remembered({inode: (changed, size) for inode, changed, size in rows.tolist()})

    def keep(self, path: Path) -> None:
        """Keep it, whole or not at all."""
        rows = [(inode, changed, size) for inode, (changed, size) in self.folders.items()]
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        draft = path.with_suffix(".new.npz")
        np.savez_compressed(draft, folders=np.array(rows, dtype=np.int64).reshape(-1, 3))
        draft.replace(path)


def found_below(folder: Path, allowed: Sequence[Path]) -> Path:
    """A folder as it is, wherever links lead: below one of the allowed ones, or NotReached."""
    try:
        found = folder.resolve(strict=True)
    except (OSError, RuntimeError):
        raise NotReached(f"{folder} is not there (any more), or leads in a circle.") from None
    roots = [each.resolve() for each in allowed]
    if not any(found == each or each in found.parents for each in roots):
        raise NotReached(f"{folder} lies below none of the roots that FAIR_LADLE_STORAGE_ROOTS names.")
    if not found.is_dir():
        raise NotReached(f"{folder} is no folder.")
    return found


@dataclass(frozen=True)
class FileTree:
    """A root below one of the allowed ones. ``memory`` is where earlier scans are remembered (None = nowhere): with
    ``full`` every file is looked at again, else only those of folders whose entries changed. ``pace`` is the most
    entries a second."""

    root: Path
    allowed: Sequence[Path]
    memory: Path | None = None
    full: bool = True
    pace: int | None = None
    can_list = True
    can_limit = False

    def usage(self, subjects: Sequence[str], going_on: GoingOn) -> Iterator[Found | Trouble]:
        """The size of each folder directly below the root, of files directly in it under the name ``.``"""
        root = found_below(self.root, self.allowed)
        scan = _Scan(root.stat().st_dev, self.memory, self.full, self.pace, going_on)
        try:
            with os.scandir(root) as entries:
                tops = sorted((entry.name, entry.inode()) for entry in entries if entry.is_dir(follow_symlinks=False))
            own = scan.own_files(str(root), root.stat())
            if own:
                yield Found(".", own)
            for name, _ in tops:
                size = scan.folder(os.path.join(root, name))
                if scan.stopped:
                    return
                yield Trouble(name, size) if isinstance(size, str) else Found(name, size)
        except OSError as trouble:
            raise NotReached(f"{root} cannot be read: {trouble.strerror or trouble}") from None
        finally:
            scan.end()

    def set_limits(self, wanted: Sequence[tuple[str, int | None]], going_on: GoingOn) -> Iterator[Trouble]:
        """A tree of folders takes no limits."""
        yield from ()


class _Scan:
    """One scan under way."""

    def __init__(self, device: int, memory: Path | None, full: bool, pace: int | None, going_on: GoingOn):
        self.device, self.memory, self.pace, self.going_on = device, memory, pace, going_on
        self.before = Remembered.read(memory) if memory is not None else Remembered()
        self.known = {} if full else self.before.folders
        self.seen = Remembered()
        self.links: set[int] = set()
        self.stopped = False
        self.count, self.begun = 0, time.monotonic()

    def end(self) -> None:
        """Remember what was looked at, so that a scan that was stopped goes on from there."""
        if self.memory is not None:
            kept = self.before.folders | self.seen.folders if self.stopped else self.seen.folders
            Remembered(kept).keep(self.memory)

    def folder(self, top: str) -> int | str:
        """The bytes below a folder, or why they cannot be told."""
        total, todo, trouble = 0, [top], None
        while todo:
            path = todo.pop()
            try:
                status = os.lstat(path)
                if status.st_dev != self.device or not stat.S_ISDIR(status.st_mode):
                    continue  # another file system, or no longer what it was
                total += self.own_files(path, status, todo)
            except FileNotFoundError:
                continue  # renamed or removed meanwhile: the next scan finds it where it is
            except OSError as error:
                trouble = trouble or f"a folder in it cannot be read: {error.strerror}"
            if self.stopped:
                return 0
        return trouble if trouble is not None else total

    def own_files(self, path: str, status: os.stat_result, below: list[str] | None = None) -> int:
        """The bytes of the files directly in a folder; the folders in it are added to ``below``."""
        known = self.known.get(status.st_ino)
        is_same = known is not None and known[0] == status.st_mtime_ns
        size = known[1] if known is not None and is_same else 0
        with os.scandir(path) as entries:
            for entry in entries:
                self._count()
                if self.stopped:
                    return 0
                if entry.is_dir(follow_symlinks=False):
                    if below is not None:
                        below.append(entry.path)
                elif not is_same and not entry.is_symlink():
                    size += self._file(entry)
        self.seen.folders[status.st_ino] = (status.st_mtime_ns, size)
        return size

    def _file(self, entry: os.DirEntry[str]) -> int:
        try:
            found = entry.stat(follow_symlinks=False)
        except FileNotFoundError:
            return 0
        if found.st_nlink > 1:
            if found.st_ino in self.links:
                return 0
            self.links.add(found.st_ino)
        return found.st_blocks * BLOCK if stat.S_ISREG(found.st_mode) else 0

    def _count(self) -> None:
        self.count += 1
        if self.count % AT_A_TIME:
            return
        if not self.going_on():
            self.stopped = True
        if self.pace:
            early = self.count / self.pace - (time.monotonic() - self.begun)
            if early > 0:
                time.sleep(early)
