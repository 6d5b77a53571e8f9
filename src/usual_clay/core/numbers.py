"""Numbers as people type them: decimal comma or point, fractions, sums, and units."""

from __future__ import annotations

import re

from usual_clay.core.errors import ClayError

# Millimetres of each unit of length.
LENGTHS = {
    "mm": 1.0,
    "cm": 10.0,
    "m": 1000.0,
    "in": 25.4,
    '"': 25.4,
    "ft": 304.8,
}
_DECIMAL = r"\d+(?:[.,]\d*)?|[.,]\d+"
_TERM = re.compile(
    rf"\s*(?P<sign>[+-])?\s*(?:(?P<whole>\d+)\s+(?=\d+\s*/))?(?P<over>{_DECIMAL})"
    rf'(?:\s*/\s*(?P<under>{_DECIMAL}))?\s*(?P<unit>mm|cm|m|in|"|ft)?(?![\w.,/])'
)


class NumberError(ClayError):
    """Something typed that is no number."""


def read_number(text: str, unit: str = "") -> float:
    """Return a number as it was typed, such as ``0,07``, ``12/5``, ``1 1/2 in`` or ``40 - 2.5``.

    A comma and a point both mean the decimal sign; neither parts thousands.

    Parameters
    ----------
    unit : str
        The unit of the result, and of what is typed without one; with a length others are turned
        into it, with any other it may only be repeated.

    Raises
    ------
    NumberError
    """
    # True minus signs are typed by nobody, but copied.
    words = text.strip().replace("\N{MINUS SIGN}", "-")
    own = unit.strip()
    if own and own not in LENGTHS and words.endswith(own):
        words = words[: -len(own)].strip()
    total, at = 0.0, 0
    while at < len(words):
        term = _TERM.match(words, at)
        if term is None or (at and not term["sign"]):
            break
        total += _value(term, own, text)
        at = term.end()
    if not words or at < len(words.rstrip()):
        raise NumberError(f"“{text.strip()}” is no number")
    return total


def _value(term: re.Match[str], own: str, text: str) -> float:
    over, under = (float((term[part] or "1").replace(",", ".")) for part in ("over", "under"))
    if under == 0:
        raise NumberError(f"“{text.strip()}” divides by nothing")
    value = int(term["whole"] or 0) + over / under
    if term["unit"]:
        if own not in LENGTHS:
            raise NumberError(f"“{text.strip()}” has a length where none belongs")
        value *= LENGTHS[term["unit"]] / LENGTHS[own]
    return -value if term["sign"] == "-" else value


def read_numbers(text: str, unit: str = "") -> list[float]:
    """Return several numbers, parted by semicolons, or by commas with a space after them.

    Raises
    ------
    NumberError
    """
    return [read_number(word, unit) for word in re.split(r";|,\s+", text) if word.strip()]


def thousands(count: int) -> str:
    """Return a count with thin gaps between thousands."""
    return f"{count:,}".replace(",", " ")
