"""A text of cells, with a separator between them and a row on each line -> a table of texts as written."""

from __future__ import annotations

import csv
import io
import re
from collections import Counter
from functools import partial

import numpy as np
import polars as pl

from tansy.engine.errors import FileError
from tansy.engine.reading.header import LOOKED_AT, check_names, find_header
from tansy.engine.timeline import form_of

_SAMPLE = 1 << 20
"""Bytes that a file is known by."""
_LINES_OF_A_CELL = 100
_CELLS_LOOKED_AT = 1000
_DELIMITERS = (",", ";", "\t", "|")


def read_delimited(name: str, raw: bytes) -> tuple[pl.DataFrame, int]:
    """All columns as text, and the line of the header. Raises FileError in one sentence where it cannot be read."""
    raw = _with_line_ends(_to_utf8(name, raw))
    sample = _first_lines(name, raw)
    delimiter = _delimiter(name, [line.rstrip("\r\n") for line in sample])
    try:
        rows, ends = _rows_of(sample, delimiter)
    except csv.Error as error:
        raise FileError(f"{name}, near row 1: {error}.") from None
    header = find_header(rows)
    if header is None:
        raise FileError(f"{name} is empty but for blanks.")
    line, names = ends[header.at], header.names
    _check_header(name, line, names)
    body = raw.split(b"\n", line)[line] if line < raw.count(b"\n") + 1 else b""
    if not body.strip():
        raise FileError(f"{name} has a header but no rows below it.")
    body = _with_blank_rows(body, delimiter, len(names))
    try:
        table = _parsed(body, delimiter, names)
    except pl.exceptions.PolarsError:
        raise FileError(_ragged_row(name, body, delimiter, len(names), line)) from None
    except BaseException as error:
        if isinstance(error, (Exception, KeyboardInterrupt, SystemExit)):  # a panic of the reader is none of these
            raise
        raise FileError(f"{name} cannot be read as a table; save it anew.") from None
    if table.width != len(names):
        raise FileError(_ragged_row(name, body, delimiter, len(names), line))
    table = table.fill_null("")
    if b'"' in body:
        _check_swallowed(name, table, delimiter, line)
    return table, line


def _first_lines(name: str, raw: bytes) -> list[str]:
    """Whole lines, as many as it takes to know a file by. Raises FileError where the first has no end."""
    lines = io.StringIO(raw[:_SAMPLE].decode("utf-8", errors="ignore"), newline="").readlines()
    if len(raw) > _SAMPLE:
        lines.pop()
    if not lines:
        raise FileError(f"{name}, row 1: no line ends within {_SAMPLE:,} bytes; a table has a row on each line.")
    return lines[:LOOKED_AT]


def _with_blank_rows(body: bytes, delimiter: str, width: int) -> bytes:
    """Empty lines as rows of empty cells, so that a row is found by its line; within cells in quotes they stay."""
    if not (body.startswith((b"\n", b"\r\n")) or b"\n\n" in body or b"\n\r\n" in body):
        return body
    blank = delimiter.encode() * (width - 1)
    if not _has_quoted_cells(body, delimiter):
        return re.sub(rb"(?m)^\r?(?=\n)", blank, body)
    return re.sub(rb'(?m)"(?:[^"]|"")*"|^\r?(?=\n)', lambda found: found[0] if b'"' in found[0] else blank, body)


def _parsed(body: bytes, delimiter: str, names: list[str]) -> pl.DataFrame:
    """Where no cell begins with a quote, each is a letter like others: the inches of a product's name. Where some do,
    it is one in cells that do not."""
    quoted = _has_quoted_cells(body, delimiter)
    read = partial(
        pl.read_csv, separator=delimiter, quote_char='"' if quoted else None, infer_schema=False, has_header=False,
        new_columns=names,
    )  # fmt: skip
    try:
        return read(body)
    except pl.exceptions.PolarsError:
        if not quoted:
            raise
        return read(_with_inches_in_quotes(body, delimiter))


def _with_inches_in_quotes(body: bytes, delimiter: str) -> bytes:
    """Cells that do not begin with a quote and have one, written in quotes."""
    ends = re.escape(delimiter.encode()) + rb"\r\n"
    cells = re.compile(rb'"(?:[^"]|"")*"|(?<![^%b])([^"%b][^%b]*"[^%b]*)' % (ends, ends, ends, ends))
    return cells.sub(lambda cell: b'"%b"' % cell[1].replace(b'"', b'""') if cell[1] else cell[0], body)


def _check_swallowed(name: str, table: pl.DataFrame, delimiter: str, above: int) -> None:
    """Raises FileError where a cell holds rows: from a quote that is not closed to another one further down."""
    last = table.width - 1
    for place, column in enumerate(table.columns):
        texts = table[column]
        for at in np.flatnonzero(texts.str.contains("\n", literal=True))[:_CELLS_LOOKED_AT].tolist():
            parted = [line.split(delimiter) for line in texts[at].split("\n")]
            if [len(cells) - 1 for cells in parted] != [last - place, *[last] * (len(parted) - 2), place]:
                continue
            own, (first, *_, second) = table.row(at), parted
            # two lines may do so by chance; they are parts of rows where they hold numbers where the cell's row does
            kinds = [_kind(cell) for cell in (*own[:place], *own[place + 1 :])]
            alike = kinds == [_kind(cell) for cell in (*second[:-1], *first[1:])] and {*kinds} != {"text"}
            if len(parted) > 2 or alike:
                raise FileError(
                    f"{name}, about row {at + above + 1}: a cell of {column!r} goes on for {len(parted):,} lines that "
                    "look like rows; look for a quote that is not closed."
                )


def _kind(cell: str) -> str:
    cell = cell.strip()
    return "period" if form_of(cell) is not None else "number" if _is_number(cell) else cell and "text"


def _has_quoted_cells(body: bytes, delimiter: str) -> bool:
    begun = re.compile(rb"(?:^|[\r\n" + re.escape(delimiter.encode()) + rb'])"')
    return b'"' in body and begun.search(body) is not None


def _rows_of(lines: list[str], delimiter: str) -> tuple[list[list[str]], list[int]]:
    """Rows of the first lines, and the line each of them ends on."""
    reader = csv.reader(lines, delimiter=delimiter)
    rows, ends = [], []
    for row in reader:
        rows.append(row)
        ends.append(reader.line_num)
    return rows, ends


def _to_utf8(name: str, raw: bytes) -> bytes:
    """UTF-8 with or without a mark, UTF-16 with one, else Latin-1 as Western spreadsheets write it."""
    if raw.startswith((b"\xff\xfe", b"\xfe\xff")):
        try:
            return raw.decode("utf-16").encode()
        except UnicodeError:
            raise FileError(f"{name} begins as UTF-16 but is damaged; save it anew as UTF-8.") from None
    raw = raw.removeprefix(b"\xef\xbb\xbf")
    try:
        raw.decode("utf-8")
        return raw
    except UnicodeDecodeError:
        return raw.decode("cp1252", errors="replace").encode()


def _with_line_ends(raw: bytes) -> bytes:
    """Lines that end as usual, where some end with a return alone, or with several and a feed."""
    if raw.count(b"\r") == raw.count(b"\r\n"):
        return raw
    return re.sub(rb"\r+\n", b"\n", raw).replace(b"\r", b"\n")


def _delimiter(name: str, sample: list[str]) -> str:
    """The one that parts the most lines into the same number of cells, of those that part any."""
    lines = [line for line in sample if line.strip()]
    if not lines or not any(line.strip(" \t,;|") for line in lines):
        raise FileError(f"{name} is empty but for blanks.")

    def parted(delimiter: str) -> tuple[int, int]:
        try:
            widths = Counter(len(row) for row in csv.reader(lines, delimiter=delimiter) if len(row) > 1)
        except csv.Error:
            return (0, 0)
        width, times = max(widths.items(), key=lambda one: one[1] * (one[0] - 1), default=(0, 0))
        return times, width

    best = max(_DELIMITERS, key=parted)
    if parted(best)[0] == 0:
        raise FileError(
            f"{name}, row 1: only one column was found ({lines[0][:40]!r}); "
            "columns are separated by comma, semicolon, tab or |."
        )
    return best


def _check_header(name: str, line: int, header: list[str]) -> None:
    check_names(name, line, header)
    periods = sum(form_of(cell) is not None for cell in header)
    numbers = [cell for cell in header if _is_number(cell) and form_of(cell) is None]
    if numbers and periods <= 2:
        at = header.index(numbers[0]) + 1
        raise FileError(
            f"{name}, row {line}: column {at} is named {numbers[0]!r}, so the first row looks like data; "
            "add a header row that names the columns."
        )


def _is_number(text: str) -> bool:
    try:
        float(text.replace(",", "."))
    except ValueError:
        return False
    return True


def _ragged_row(name: str, body: bytes, delimiter: str, width: int, above: int) -> str:
    """Which row has too many cells, or a quote that is out of place or never closed. above: lines up to the header."""
    quoted = _has_quoted_cells(body, delimiter)
    if quoted:
        body = _with_inches_in_quotes(body, delimiter)  # which are no fault
    odd = _odd_quote(body, delimiter) if quoted else None
    if odd is not None:
        return (
            f"{name}, row {odd + above}: a quote that is out of place or never closed; a cell with quotes in it stands "
            "in quotes, and each of its own twice."
        )
    text = io.StringIO(body.decode("utf-8"), newline="")
    rows = csv.reader(text, delimiter=delimiter, quoting=csv.QUOTE_MINIMAL if quoted else csv.QUOTE_NONE)
    try:
        for row in rows:
            if len(row) > width:
                return (
                    f"{name}, row {rows.line_num + above}: {len(row)} cells where the header names {width} columns; "
                    "a text that holds the separator must stand in double quotes."
                )
    except csv.Error as error:
        return f"{name}, row {rows.line_num + above}: {error}."
    return f"{name} cannot be read as a table; save it anew."


def _odd_quote(body: bytes, delimiter: str) -> int | None:
    """The line, from 1, of the first row whose quotes are not those of cells in quotes."""
    part = re.escape(delimiter.encode())
    whole = re.compile(rb'(?:"(?:[^"]|"")*"|[^"%b]*)(?:%b(?:"(?:[^"]|"")*"|[^"%b]*))*' % (part, part, part))
    began, row = 1, b""
    for number, line in enumerate(body.split(b"\n"), 1):
        row = row + b"\n" + line if row else line
        if whole.fullmatch(row.rstrip(b"\r")):
            began, row = number + 1, b""
        elif number - began >= _LINES_OF_A_CELL or row.count(b'"') % 2 == 0:
            return began
    return began if row else None
