"""Archives that are written while they are sent."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Generator, Iterable

TYPE = "application/zip"


class _Sink(io.RawIOBase):
    """Takes what is written until it is fetched; it cannot be rewound, so that an archive is written straight on."""

    def __init__(self) -> None:
        super().__init__()
        self._held = bytearray()

    def writable(self) -> bool:
        """Yes."""
        return True

    def write(self, part: object) -> int:
        """Hold a part."""
        held = bytes(memoryview(part))  # type: ignore[arg-type]
        self._held += held
        return len(held)

    def fetch(self) -> bytes:
        """What was written since."""
        found = bytes(self._held)
        self._held.clear()
        return found


def zip_parts(files: Iterable[tuple[str, bytes | Iterable[bytes]]]) -> Generator[bytes]:
    """A zip of files (name, content, or content part by part), each written as it comes."""
    sink = _Sink()
    with zipfile.ZipFile(sink, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in files:
            info = zipfile.ZipInfo(name)
            info.compress_type = zipfile.ZIP_DEFLATED
            with archive.open(info, "w", force_zip64=True) as file:
                for part in [content] if isinstance(content, bytes) else content:
                    file.write(part)
                    yield sink.fetch()
            yield sink.fetch()
    yield sink.fetch()
