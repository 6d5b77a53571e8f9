"""Units at the border: millimetres inside, whatever the file says outside."""

from usual_clay.files.errors import FileError

MILLIMETRES = {"mm": 1.0, "cm": 10.0, "m": 1000.0, "in": 25.4, "ft": 304.8}


def millimetres_in(unit: str) -> float:
    """Return how many mm one `unit` is."""
    try:
        return MILLIMETRES[unit]
    except KeyError:
        raise FileError(f"unknown unit {unit!r}: use one of {', '.join(MILLIMETRES)}") from None
