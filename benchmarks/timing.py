"""How a measurement is made and said."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable


def seconds(work: Callable[[], object]) -> float:
    start = time.perf_counter()
    work()
    return time.perf_counter() - start


def say(words: str, values: list[float], unit: str, aim: str) -> None:
    middle = statistics.median(values)
    print(f"{words:<66}{middle:8.2f} {unit:<4}({min(values):.2f} to {max(values):.2f})  aim: {aim}")
