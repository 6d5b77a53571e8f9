"""The array types that every signature in the core is written with."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

Floats = NDArray[np.float64]
# A place or a direction as settings keep it.
Place = tuple[float, float, float]
Ints = NDArray[np.int64]
Bools = NDArray[np.bool_]

__all__ = [
    "ArrayLike", "Bools", "Floats", "Ints", "Place", "as_place", "as_places", "frozen", "thinned",
    "told_at",
]  # fmt: skip


def as_place(point: Floats) -> Place:
    """Return a point, (3,), as settings keep it."""
    x, y, z = point.tolist()
    return x, y, z


def as_places(points: Floats) -> tuple[Place, ...]:
    """Return points, (n, 3), as settings keep them."""
    return tuple(as_place(point) for point in points)


def dots(a: Floats, b: Floats) -> Floats:
    """Return the products of pairs of vectors, coordinates first: (3, n) by (3, n) gives (n,)."""
    return np.asarray(np.einsum("in,in->n", a, b))


def medians(values: Floats) -> Floats:
    """Return the medians along the first axis, which is short: (k, n) gives (n,).

    A sorting network (Knuth, volume 3, 5.3.4), all columns at once: faster than to sort
    each.
    """
    rows, middle = [*values], (len(values) - 1) // 2
    for last in range(len(rows) - 1, middle - 1, -1):
        for k in range(last):
            low, high = rows[k : k + 2]
            rows[k], rows[k + 1] = np.minimum(low, high), np.maximum(low, high)
    return np.asarray((rows[middle] + rows[len(rows) // 2]) / 2)


def told_at(place: Any) -> str:
    """Return a place, three numbers, as words tell it: to a tenth, without a sign before 0."""
    return ", ".join(f"{x:.1f}" for x in np.round(place, 1) + 0.0)


def thinned(count: int, every: int) -> Ints:
    """Return which of so many in a row are every so manieth, and the last, in order."""
    return np.unique(np.append(np.arange(0, count, every), count - 1))


def frozen(values: Any, dtype: Any = np.float64) -> NDArray[Any]:
    """Return `values` as a contiguous, read-only array of `dtype`; a copy only where needed."""
    array = np.ascontiguousarray(values, dtype=dtype)
    if array.flags.writeable:
        array = array.copy() if array is values or array.base is not None else array
        array.flags.writeable = False
    return array
