"""Reading tables from a folder of CSV files, a zip of one, or an XLSX workbook: the same rows whichever way.

CSV after RFC 4180 in UTF-8; the workbook through openpyxl with defusedxml under it. Archives are
bounded by what they would unpack to before anything is unpacked.
"""

from __future__ import annotations

import csv
import io
import zipfile
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import date, datetime
from pathlib import Path
from typing import IO, Any

from defusedxml.common import DefusedXmlException

MOST_UNPACKED = 2 * 2**30
MOST_OF_ONE_TABLE = 300 * 10**6
MOST_MEMBERS = 2000
MOST_CELL = 65536
MOST_COLUMNS, MOST_EMPTY_ROWS = 200, 1000
MOST_RATIO, RATIO_FROM = 100, 20 * 10**6
"""How many times its packed size something may unpack to, from so many bytes on."""
csv.field_size_limit(MOST_CELL)


@dataclass(frozen=True)
class Fault:
    """What is wrong, where (row 1 is the header; None = the whole file), and what would be right."""

    file: str
    row: int | None
    column: str | None
    found: str
    expected: str


class Unreadable(Exception):
    """A table, or the whole source, cannot be read; carries the faults."""

    def __init__(self, *faults: Fault):
        super().__init__("; ".join(fault.expected for fault in faults))
        self.faults = faults


@dataclass
class SheetTable:
    """One table: its name, its header, and its rows as lists of text with their row numbers."""

    name: str
    header: list[str]
    rows: Iterator[tuple[int, list[str]]]


@dataclass
class Source:
    """The tables found, by name, and the faults that kept others from being read."""

    tables: dict[str, SheetTable] = field(default_factory=dict)
    faults: list[Fault] = field(default_factory=list)
    unreadable: set[str] = field(default_factory=set)

    def add(self, name: str, table: SheetTable) -> None:
        """Keep a table; a second one of the same name is a fault."""
        if name in self.tables:
            self.faults.append(Fault(f"{name}.csv", None, None, "two of them", "one file a table"))
        else:
            self.tables[name] = table

    def drop(self, name: str, faults: tuple[Fault, ...]) -> None:
        """Note that a table is there but cannot be read."""
        self.faults.extend(faults)
        self.unreadable.add(name)


def read_source(path: Path) -> Source:
    """Whatever is at the path: a folder, a zip or a workbook. Unreadable where it is none of them."""
    if path.is_dir():
        return _read_folder(path)
    if not path.exists():
        raise Unreadable(Fault(path.name, None, None, "nothing there", "a folder, a .zip or an .xlsx file"))
    if not zipfile.is_zipfile(path):
        raise Unreadable(Fault(path.name, None, None, "another kind of file", "a folder, a .zip or an .xlsx file"))
    with zipfile.ZipFile(path) as archive:
        _check_bounds(path.name, archive)
        if "xl/workbook.xml" in archive.namelist():
            return _read_workbook(path.name, path, archive)
        return _read_zip(path.name, archive)


def read_upload(name: str, content: bytes) -> Source:
    """The tables of an archive or a workbook as it was sent. Unreadable where it is neither."""
    if not zipfile.is_zipfile(io.BytesIO(content)):
        raise Unreadable(Fault(name, None, None, "another kind of file", "a .zip of the tables or an .xlsx file"))
    with zipfile.ZipFile(io.BytesIO(content)) as archive:
        _check_bounds(name, archive, MOST_OF_ONE_TABLE)
        if "xl/workbook.xml" in archive.namelist():
            return _read_workbook(name, io.BytesIO(content), archive)
        return _read_zip(name, archive)


def read_table(name: str, content: bytes) -> SheetTable:
    """The one table of a file: CSV with commas, semicolons or tabs between, or a workbook's first sheet that has a
    header."""
    if not content.startswith(b"PK"):
        first = content.split(b"\n", 1)[0]
        table = _csv_table(Path(name).stem, content, max(",;\t", key=lambda each: first.count(each.encode())))
        if not any(table.header):
            raise Unreadable(Fault(name, 1, None, "nothing", "a header row of column names"))
        return table
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as archive:
            _check_bounds(name, archive, MOST_OF_ONE_TABLE)
            if "xl/workbook.xml" not in archive.namelist():
                raise Unreadable(Fault(name, None, None, "another kind of archive", "a CSV file or a workbook (.xlsx)"))
            source = _read_workbook(name, io.BytesIO(content), archive)
    except zipfile.BadZipFile as trouble:
        raise Unreadable(Fault(name, None, None, f"damaged: {trouble}", "a workbook that opens")) from None
    found = next((each for each in source.tables.values() if any(each.header)), None)
    if found is None:
        raise Unreadable(
            *(
                source.faults
                or [Fault(name, 1, None, "no sheet with a header row", "a sheet whose first row names its columns")]
            )
        )
    return found


def _check_bounds(name: str, archive: zipfile.ZipFile, most: int | None = None) -> None:
    most = MOST_UNPACKED if most is None else most
    members = archive.infolist()
    unpacked = sum(member.file_size for member in members)
    if unpacked > most:
        raise Unreadable(
            Fault(name, None, None, f"unpacks to {unpacked / 10**9:.1f} GB", f"at most {most / 10**9:.1f} GB unpacked")
        )
    for member in members:
        if member.file_size > RATIO_FROM and member.file_size > MOST_RATIO * max(1, member.compress_size):
            found = f"{member.filename} unpacks to {member.file_size / max(1, member.compress_size):.0f} times its size"
            raise Unreadable(Fault(name, None, None, found, f"at most {MOST_RATIO} times"))
    if len(members) > MOST_MEMBERS:
        raise Unreadable(Fault(name, None, None, f"{len(members)} files in it", f"at most {MOST_MEMBERS}"))
    if any(member.flag_bits & 1 for member in members):
        raise Unreadable(Fault(name, None, None, "protected by a password", "an archive without a password"))


def _read_folder(path: Path) -> Source:
    source = Source()
    for file in sorted(path.iterdir()):
        if file.suffix.lower() == ".csv" and file.is_file():
            if file.stat().st_size > MOST_UNPACKED:
                source.drop(
                    file.stem,
                    (Fault(file.name, None, None, "a file too large", f"at most {MOST_UNPACKED / 10**9:.1f} GB"),),
                )
                continue
            _add_csv(source, file.stem, file.read_bytes())
    return source


def _read_zip(name: str, archive: zipfile.ZipFile) -> Source:
    source = Source()
    for member in archive.infolist():
        inside = Path(member.filename)
        if member.is_dir() or inside.suffix.lower() != ".csv" or inside.parts[0] == "__MACOSX":
            continue
        if len(inside.parts) > 2:
            source.faults.append(
                Fault(member.filename, None, None, "deep inside the archive", "files at its top, or in one folder")
            )
            continue
        try:
            content = archive.read(member)
        except (zipfile.BadZipFile, OSError, ValueError, NotImplementedError) as trouble:
            source.drop(inside.stem, (Fault(inside.name, None, None, f"damaged: {trouble}", "a file that unpacks"),))
            continue
        _add_csv(source, inside.stem, content)
    return source


def _add_csv(source: Source, name: str, content: bytes) -> None:
    try:
        source.add(name, _csv_table(name, content))
    except Unreadable as trouble:
        source.drop(name, trouble.faults)


def _csv_table(name: str, content: bytes, delimiter: str = ",") -> SheetTable:
    file = f"{name}.csv"
    try:
        content.decode("utf-8-sig")
    except UnicodeDecodeError as trouble:
        line = content.count(b"\n", 0, trouble.start) + 1
        raise Unreadable(
            Fault(
                file,
                line,
                None,
                f"the byte 0x{content[trouble.start]:02X}, which is not UTF-8",
                "the file saved as UTF-8",
            )
        ) from None
    text = io.TextIOWrapper(io.BytesIO(content), "utf-8-sig", newline="")
    reader = csv.reader(text, strict=True, delimiter=delimiter)
    try:
        header = next(reader, [])
    except csv.Error as trouble:
        raise Unreadable(Fault(file, 1, None, str(trouble), "a header row of column names")) from None
    return SheetTable(name, [each.strip() for each in header], _csv_rows(file, reader))


def _csv_rows(file: str, reader: Any) -> Iterator[tuple[int, list[str]]]:
    number = 1
    while True:
        number += 1
        try:
            cells = next(reader)
        except StopIteration:
            return
        except csv.Error as trouble:
            raise Unreadable(
                Fault(file, number, None, str(trouble), "CSV after RFC 4180, quotes closed and doubled")
            ) from None
        yield number, cells


def _read_workbook(name: str, file: Path | IO[bytes], archive: zipfile.ZipFile) -> Source:
    outside = [
        name for name in archive.namelist() if name.startswith("xl/externalLinks/") or name.endswith("vbaProject.bin")
    ]
    if outside:
        raise Unreadable(
            Fault(name, None, None, f"{outside[0]}: it reaches outside itself", "a workbook of plain values")
        )
    import openpyxl  # slow to load, and most tables are no workbooks

    source = Source()
    try:
        _refuse_declarations(name, archive)
        workbook = openpyxl.load_workbook(file, read_only=True, data_only=False, keep_links=False)
        names = workbook.sheetnames
    except DefusedXmlException:
        raise Unreadable(
            Fault(name, None, None, "XML with declarations of its own", "a workbook of plain values")
        ) from None
    except Unreadable:
        raise
    except Exception as trouble:  # whatever a damaged workbook makes of the parser is one fault here
        raise Unreadable(Fault(name, None, None, f"damaged: {trouble}", "a workbook that opens")) from None
    for sheet in names:
        cells = _sheet_rows(f"{sheet}.csv", workbook[sheet])
        try:
            _, header = next(cells, (1, []))
        except Unreadable as trouble:
            source.drop(sheet, trouble.faults)
            continue
        while header and not header[-1]:
            header.pop()
        source.add(sheet, SheetTable(sheet, header, cells))
    return source


def _refuse_declarations(name: str, archive: zipfile.ZipFile) -> None:
    for member in archive.namelist():
        if member.endswith((".xml", ".rels")):
            with archive.open(member) as part:
                head: IO[bytes] = part
                if b"<!DOCTYPE" in head.read(4096) or b"<!ENTITY" in head.read(4096):
                    raise Unreadable(Fault(name, None, None, f"declarations in {member}", "a workbook of plain values"))


def _sheet_rows(file: str, sheet: Any) -> Iterator[tuple[int, list[str]]]:
    empty = 0
    try:
        # One more than is taken, so that a sheet that is too wide or too long is seen to be.
        for number, cells in enumerate(sheet.iter_rows(max_col=MOST_COLUMNS + 1), start=1):
            texts = []
            for cell in cells:
                if cell.data_type == "f":
                    raise Unreadable(
                        Fault(file, number, cell.column_letter, "a formula", "the value itself, no formula")
                    )
                texts.append(_text(cell.value))
            if len(texts) > MOST_COLUMNS and texts[-1]:
                raise Unreadable(Fault(file, number, None, "more columns", f"{MOST_COLUMNS} columns at most"))
            empty = 0 if any(texts) else empty + 1
            if empty > MOST_EMPTY_ROWS:
                raise Unreadable(Fault(file, number, None, f"{empty} empty rows in a row", "rows without gaps"))
            if not empty or number == 1:
                yield number, texts[:MOST_COLUMNS]
    except DefusedXmlException:
        raise Unreadable(
            Fault(file, None, None, "XML with declarations of its own", "a sheet of plain values")
        ) from None
    except (Unreadable, GeneratorExit):
        raise
    except Exception as trouble:  # see _read_workbook
        raise Unreadable(Fault(file, None, None, f"damaged: {trouble}", "a sheet that opens")) from None


def _text(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return str(int(value)) if value.is_integer() else repr(value)
    if isinstance(value, datetime):
        whole_day = (value.hour, value.minute, value.second, value.microsecond) == (0, 0, 0, 0)
        return value.date().isoformat() if whole_day and value.tzinfo is None else value.isoformat()
    if isinstance(value, date):
        return value.isoformat()
    return str(value)
