"""Spreadsheets (.xlsx) through calamine: each sheet is read as a table of text."""

from __future__ import annotations

import datetime
import zipfile
from dataclasses import replace

from nodrek.core.model import RawLog
from nodrek.errors import UnreadableFile
from nodrek.io.logs import text
from nodrek.io.logs.source import LogFile, Request

MOST_UNPACKED = 600 * 1024**2
MOST_RATIO = 150
MOST_SHEETS = 20


def read(file: LogFile, request: Request) -> RawLog:
    from python_calamine import CalamineError, CalamineWorkbook

    _refuse_bombs(file)
    refused: UnreadableFile | None = None
    try:
        with file.open() as stream:
            book = CalamineWorkbook.from_filelike(stream)
            sheets = book.sheet_names[:MOST_SHEETS]
            for name in sheets:
                rows = book.get_sheet_by_name(name).to_python(skip_empty_area=True)
                lines = ["\t".join(_cell(c) for c in row) for row in rows]
                table = LogFile(file.path, "\n".join(lines).encode(), name)
                if len(lines) < 3 or not text.detect(table.head()):
                    continue
                return replace(text.read(table, request), format="xlsx")
    except UnreadableFile as error:
        refused = error
    except (CalamineError, OSError, ValueError, zipfile.BadZipFile) as error:
        raise UnreadableFile(f"{file.name} is damaged and cannot be read as a workbook: save it again.") from error
    raise refused or UnreadableFile(
        f"{file.name} holds no sheet with a table of numbers: put the log into the first sheet."
    )


def _cell(value: object) -> str:
    if isinstance(value, float):
        return repr(int(value)) if value.is_integer() and abs(value) < 1e15 else repr(value)
    if isinstance(value, (datetime.datetime, datetime.date, datetime.time)):
        return value.isoformat(sep=" ") if isinstance(value, datetime.datetime) else value.isoformat()
    if isinstance(value, datetime.timedelta):
        return repr(value.total_seconds())
    return str(value).replace("\t", " ").replace("\n", " ").replace("\r", " ")


def _refuse_bombs(file: LogFile) -> None:
    try:
        with file.open() as stream, zipfile.ZipFile(stream) as archive:
            total = sum(m.file_size for m in archive.infolist())
            packed = max(1, sum(m.compress_size for m in archive.infolist()))
    except (zipfile.BadZipFile, OSError, ValueError, NotImplementedError) as error:
        raise UnreadableFile(f"{file.name} is damaged and cannot be read as a workbook: save it again.") from error
    if total > MOST_UNPACKED or (total > 50 * 1024**2 and total / packed > MOST_RATIO):
        raise UnreadableFile(f"{file.name} unpacks to far more than a log of its size can hold: save it as CSV.")
