"""Point lists from text files and spreadsheets, with their unit and their bad rows."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.files.atomic import whole_file
from usual_clay.files.errors import FileError
from usual_clay.files.limited import read_apart
from usual_clay.files.points_text import TextTable, open_text
from usual_clay.files.units import millimetres_in

TEXT = (".csv", ".tsv", ".txt", ".xyz")
SHEETS = (".xlsx", ".ods", ".xls", ".xlsb")
SUFFIXES = TEXT + SHEETS
UNIT_NAMES = {"inch": "in", "inches": "in", "feet": "ft", "foot": "ft", "millimetres": "mm"}
BEFORE, AFTER = r"(?:^|[\s\[(:=_])", r"(?=$|[\s\]),;])"
UNIT = re.compile(BEFORE + "(mm|cm|m|ft|inch|inches|feet|foot|millimetres)" + AFTER, re.I)
# "in" is a common word: it is a unit alone, in brackets, or after the word unit.
INCHES = re.compile(r"^in$|[\[(]in[\])]|units?\W+in\b", re.I)
MOST_CELLS = 60_000_000
# So many rows are shown for choosing columns.
SAMPLE = 4
# Lines of a text that are read at once.
PIECE = 20_000
# Numbers begin within so many lines of a text.
HEAD = 200


@dataclass(frozen=True)
class BadRow:
    """A row that is no point: its number in the file, from 1, and why."""

    number: int
    reason: str


@dataclass(frozen=True, eq=False)
class PointsRead:
    """What a file of points holds.

    Attributes
    ----------
    points : (n, 2 or 3) array
        mm.
    unit : str
        The unit the numbers were taken to be in.
    said_unit : bool
        Whether the file itself says so.
    bad : tuple of BadRow
    columns : tuple of str
        Names of the columns read, from the header, or their numbers.
    axes : tuple of int
        The axes that the columns are named after; empty where they are not.
    chosen : tuple of int
        The columns read, from 0.
    heads : tuple of str
        Names of all columns that there are.
    sample : tuple of tuples of str
        The first rows with numbers, all columns, as the file has them.
    """

    points: Floats
    unit: str
    said_unit: bool
    bad: tuple[BadRow, ...]
    columns: tuple[str, ...]
    axes: tuple[int, ...] = ()
    chosen: tuple[int, ...] = ()
    heads: tuple[str, ...] = ()
    sample: tuple[tuple[str, ...], ...] = ()


def read_points(
    path: Path, unit: str | None = None, columns: Sequence[int] | None = None
) -> PointsRead:
    """Read a point list.

    Parameters
    ----------
    unit : str, optional
        The unit of the numbers where the file does not say; mm if not given.
    columns : sequence of int, optional
        Which columns to read as x, y (and z), from 0; found by name or place if not given.

    Raises
    ------
    FileError
        When it cannot be read, holds no points, or says another unit than `unit`.
    """
    suffix = path.suffix.lower()
    if suffix not in SUFFIXES:
        raise FileError(f"{path.name}: points are read from {', '.join(SUFFIXES)} files")
    text = open_text(path) if suffix in TEXT else None
    rows: list[Any] = read_apart(path, _sheet_rows) if text is None else text.rows(most=HEAD)
    first = _first_numeric(rows)
    if first is None:
        raise FileError(f"{path.name} holds no row with two or more numbers")
    header = [str(cell) for row in rows[:first] for cell in row]
    said = _unit_in(header)
    if said is not None and unit is not None and said != unit:
        raise FileError(f"{path.name} says its unit is {said}, but {unit} was asked for")
    used = said or unit or "mm"
    names = [str(cell) for cell in rows[first - 1]] if first else []
    chosen = tuple(columns) if columns is not None else _columns(names, rows[first])
    if text is None:
        points, bad = _numbers(rows[first:], chosen, first + 1)
    else:
        points, bad = _table(text, first, chosen)
    if not len(points):
        raise FileError(f"{path.name} holds no points; row {bad[0].number}: {bad[0].reason}")
    labels = tuple(names[c] if c < len(names) and names[c] else f"column {c + 1}" for c in chosen)
    plain = _axis_names(list(labels))
    axes = tuple("xyz".index(name) for name in plain) if set(plain) <= set("xyz") else ()
    shown = tuple(tuple(str(cell) for cell in row) for row in rows[first : first + SAMPLE])
    width = max(len(row) for row in shown)
    heads = tuple(names[c] if c < len(names) and names[c] else str(c + 1) for c in range(width))
    with np.errstate(over="ignore"):
        scaled = points * millimetres_in(used)
    if not np.isfinite(scaled).all():
        raise FileError(f"{path.name}: numbers in {used} are too large to be turned into mm")
    return PointsRead(scaled, used, said is not None, bad, labels, axes, chosen, heads, shown)


def _table(
    text: TextTable, first: int, columns: tuple[int, ...]
) -> tuple[Floats, tuple[BadRow, ...]]:
    """Read a text in pieces; only a piece that a bad row spoils is looked at row by row."""
    found: list[Floats] = []
    bad: list[BadRow] = []
    for start in range(first, len(text.lines), PIECE):
        lines = text.lines[start : start + PIECE]
        try:
            piece = np.loadtxt(
                lines, delimiter=text.delimiter, usecols=columns, comments=None, ndmin=2
            )
            clean = bool(np.isfinite(piece).all())
        except ValueError:
            clean = False
        if not clean:
            piece, wrong = _numbers(text.rows(start, PIECE), columns, start + 1)
            bad += wrong
        found.append(piece.reshape(-1, len(columns)))
    return np.concatenate(found), tuple(bad)


def _sheet_rows(path: Path) -> list[list[Any]]:
    import python_calamine

    try:
        book = python_calamine.CalamineWorkbook.from_path(path)
        for name in book.sheet_names:
            sheet = book.get_sheet_by_name(name)
            if sheet.total_height * sheet.total_width > MOST_CELLS:
                raise FileError(f"{path.name}: the sheet {name} is too large")
            rows = sheet.to_python(skip_empty_area=False)
            if any(_number(cell) is not None for row in rows for cell in row):
                return rows
    except FileError:
        raise
    except OSError as error:
        raise FileError(f"{path.name} cannot be opened: {error.strerror or error}") from error
    except Exception as error:
        # The reader has a type of its own for each thing that can be wrong with a workbook.
        locked = "password" in str(error).lower() or "encrypt" in str(error).lower()
        why = "it is locked with a password: save it without" if locked else str(error)[:120]
        raise FileError(f"{path.name} is no readable spreadsheet: {why}") from error
    raise FileError(f"{path.name} holds no numbers")


def _number(cell: Any) -> float | None:
    if isinstance(cell, bool):
        return None
    if isinstance(cell, (int, float)):
        return float(cell)
    try:
        return float(cell)
    except (TypeError, ValueError):
        return None


def _first_numeric(rows: list[Any]) -> int | None:
    for index, row in enumerate(rows):
        if sum(_number(cell) is not None for cell in row) >= 2:
            return index
    return None


def _unit_in(header: list[str]) -> str | None:
    """Find a unit written above the numbers: alone, in brackets, or after a name."""
    for cell in header:
        if found := UNIT.search(cell):
            word = found.group(1).lower()
            return UNIT_NAMES.get(word, word)
        if INCHES.search(cell):
            return "in"
    return None


def _axis_names(names: list[str]) -> list[str]:
    """Return column names without units, signs and case: "X [mm]" is "x"."""
    return [re.sub(r"[^a-z]", "", re.sub(r"[\[(].*", "", name.lower())) for name in names]


def _columns(names: list[str], row: Sequence[Any]) -> tuple[int, ...]:
    """Return the columns of x, y and z: by name, or the first that hold numbers."""
    plain = _axis_names(names)
    by_name = [plain.index(axis) for axis in "xyz" if axis in plain]
    if len(by_name) >= 2:
        return tuple(by_name)
    numeric = [index for index, cell in enumerate(row) if _number(cell) is not None]
    # A count in front of three coordinates is no coordinate.
    first = plain[numeric[0] : numeric[0] + 1]
    if len(numeric) >= 4 and first and first[0] in ("", "n", "no", "nr", "id", "index"):
        numeric = numeric[1:]
    return tuple(numeric[:3])


def _numbers(
    rows: list[Any], columns: tuple[int, ...], number: int
) -> tuple[Floats, tuple[BadRow, ...]]:
    wanted = max(columns) + 1
    good, bad = [], []
    for place, row in enumerate(rows, start=number):
        if not any(str(cell).strip() for cell in row):
            continue
        cells = [row[c] if c < len(row) else "" for c in columns]
        values = [_number(cell) for cell in cells]
        if len(row) < wanted:
            bad.append(BadRow(place, f"it has {len(row)} of {wanted} columns"))
        elif None in values:
            wrong = cells[values.index(None)]
            bad.append(
                BadRow(place, f"{wrong!r} is no number" if wrong != "" else "a cell is empty")
            )
        elif not all(math.isfinite(value) for value in values if value is not None):
            bad.append(BadRow(place, "a number is not finite"))
        else:
            good.append(values)
    return np.array(good, dtype=np.float64).reshape(-1, len(columns)), tuple(bad)


def write_points(path: Path, points: Floats, unit: str = "mm") -> None:
    """Write points, (n, 3), as CSV; a header tells the unit where it is not mm."""
    header = "x,y,z" if unit == "mm" else ",".join(f"{axis} [{unit}]" for axis in "xyz")
    with whole_file(path) as temporary:
        np.savetxt(temporary, points, "%.6f", ",", header=header, comments="")
