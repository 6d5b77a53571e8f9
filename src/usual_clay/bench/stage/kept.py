"""Whether what was made of something can be kept."""

from __future__ import annotations

import numpy as np


def same(known: tuple | None, wanted: tuple) -> bool:
    """Tell whether two tuples hold the same objects, or equal plain values."""
    return (
        known is not None
        and len(known) == len(wanted)
        and all(
            a is b or (not isinstance(a, np.ndarray) and not isinstance(b, np.ndarray) and a == b)
            for a, b in zip(known, wanted, strict=True)
        )
    )
