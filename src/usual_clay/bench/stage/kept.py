"""What was made of something: whether it can be kept, and letting go of it."""

from __future__ import annotations

from collections.abc import Container
from typing import Any, TypeVar

import numpy as np

Key = TypeVar("Key")


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


def drop(kept: dict[Key, Any], wanted: Container[Key]) -> None:
    """Let go of what is kept under keys that are not wanted any more."""
    for key in [key for key in kept if key not in wanted]:
        del kept[key]
