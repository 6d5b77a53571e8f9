"""Point lists as text: encoding, delimiter, decimal comma and header are found, not asked."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path

from usual_clay.files.errors import FileError

DELIMITERS = (";", "\t", ",", None)
LARGEST = 2 << 30


@dataclass(frozen=True)
class TextTable:
    """The lines of a text file and what parts them into cells; decimal commas are points."""

    lines: list[str]
    delimiter: str | None

    def rows(self, start: int = 0, most: int | None = None) -> list[list[str]]:
        """Return rows of cells, empty ones included so that rows keep their numbers."""
        end = None if most is None else start + most
        return [
            [cell.strip() for cell in line.split(self.delimiter)] for line in self.lines[start:end]
        ]


def open_text(path: Path) -> TextTable:
    """Read a text file and find its delimiter.

    Raises
    ------
    FileError
        When it cannot be opened, is empty, or is no text.
    """
    text = _decoded(path)
    lines = text.splitlines()
    delimiter = _delimiter(lines)
    if _has_decimal_comma(lines, delimiter):
        lines = text.replace(",", ".").splitlines()
    return TextTable(lines, delimiter)


def _decoded(path: Path) -> str:
    try:
        if path.stat().st_size > LARGEST:
            raise FileError(f"{path.name} is larger than 2 GB: split it first")
        raw = path.read_bytes()
    except OSError as error:
        raise FileError(f"{path.name} cannot be opened: {error.strerror}") from error
    if not raw.strip():
        raise FileError(f"{path.name} is empty")
    if raw.startswith((b"\xff\xfe", b"\xfe\xff")):
        return raw.decode("utf-16", errors="replace")
    try:
        text = raw.decode("utf-8-sig")
    except UnicodeDecodeError:
        text = raw.decode("latin-1")
    if "\0" in text:
        raise FileError(f"{path.name} is no text file")
    return text


def _delimiter(lines: list[str]) -> str | None:
    """Return the delimiter that parts most lines into the same number of two or more cells."""
    sample = [line for line in lines[:400] if re.search(r"\d", line)][:200]
    best: tuple[int, str | None] = (0, None)
    for delimiter in DELIMITERS:
        counts = [len(line.split(delimiter)) for line in sample]
        usual = max(set(counts), key=counts.count, default=0)
        votes = counts.count(usual) if usual >= 2 else 0
        if delimiter == "," and votes and _commas_are_decimal(sample):
            continue
        if votes > best[0]:
            best = (votes, delimiter)
    return best[1]


def _commas_are_decimal(sample: list[str]) -> bool:
    """Tell whether commas stand in numbers: white space parts cells that hold one comma each."""
    cells = [cell for line in sample for cell in line.split()]
    with_comma = [cell for cell in cells if re.fullmatch(r"[+-]?\d*,\d+([eE][+-]?\d+)?", cell)]
    return len(with_comma) > 0.5 * len(cells) and any(len(line.split()) > 1 for line in sample)


def _has_decimal_comma(lines: list[str], delimiter: str | None) -> bool:
    if delimiter == ",":
        return False
    pattern = re.compile(r"[+-]?\d*,\d+([eE][+-]?\d+)?")
    cells = [cell.strip() for line in lines[:200] for cell in line.split(delimiter)]
    return sum(bool(pattern.fullmatch(cell)) for cell in cells) > 0
