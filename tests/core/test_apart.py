"""Work in a process of its own: done, stopped, crashed, too long, and told of on its way."""

from __future__ import annotations

import os
import time
from collections.abc import Callable

import pytest

from usual_clay.core.apart import ApartError, apart
from usual_clay.core.body.body_shape import BodyError
from usual_clay.core.progress import Cancelled, stoppable


def doubled(number: int) -> int:
    return 2 * number


def told(many: int, progress: Callable[[float, str], None]) -> int:
    for k in range(many):
        progress(k / many, f"step {k}")
    return os.getpid()


def ends(code: int) -> None:
    os._exit(code)


def sleeps(seconds: float) -> None:
    time.sleep(seconds)


def refuses(words: str) -> None:
    raise BodyError(words, (1.0, 2.0, 3.0))


def asks_for_much(size: int) -> int:
    return len(bytearray(size))


def test_it_is_done_elsewhere_and_its_progress_comes_here() -> None:
    assert apart("it", doubled, 21) == 42
    came: list[str] = []
    first = apart("it", told, 3, progress=lambda _fraction, words: came.append(words))
    assert came == ["step 0", "step 1", "step 2"]
    assert first != os.getpid()
    # The process is kept for what comes next.
    assert apart("it", told, 0, progress=lambda *_: None) == first


def test_what_it_refuses_comes_as_it_is_with_its_place() -> None:
    with pytest.raises(BodyError, match="too thin") as error:
        apart("it", refuses, "too thin")
    assert error.value.at == (1.0, 2.0, 3.0)


def test_a_crash_and_what_takes_too_long_become_one_line() -> None:
    with pytest.raises(ApartError, match=r"lure\.step ends the geometry kernel"):
        apart("lure.step", ends, 139)
    started = time.monotonic()
    with pytest.raises(ApartError, match=r"takes longer than 0\.3 s"):
        apart("it", sleeps, 30.0, seconds=0.3)
    assert time.monotonic() - started < 10
    with pytest.raises(ApartError, match="more memory"):
        apart("it", asks_for_much, 1 << 44)
    assert apart("it", doubled, 4) == 8


def test_it_ends_at_once_when_it_is_stopped() -> None:
    started = time.monotonic()
    with stoppable(lambda: time.monotonic() > started + 0.2), pytest.raises(Cancelled):
        apart("it", sleeps, 30.0)
    assert time.monotonic() - started < 10
