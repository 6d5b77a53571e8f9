"""The array types that every signature in the core is written with."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
Bools = NDArray[np.bool_]

__all__ = ["ArrayLike", "Bools", "Floats", "Ints", "frozen"]


def frozen(values: Any, dtype: Any = np.float64) -> NDArray[Any]:
    """Return `values` as a contiguous, read-only array of `dtype`; a copy only where needed."""
    array = np.ascontiguousarray(values, dtype=dtype)
    if array.flags.writeable:
        array = array.copy() if array is values or array.base is not None else array
        array.flags.writeable = False
    return array
