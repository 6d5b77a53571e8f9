"""Whether references agree: shared extents, centre lines and turns, in mm, % and words."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import combinations
from typing import Literal

import numpy as np
from scipy.spatial import ConvexHull, cKDTree

from usual_clay.core.arrays import Floats

AXES = "xyz"
# Below these, references are said to agree.
SIZE_SHARE, TURN_DEGREES = 0.004, 0.15
# An outline is its own mirror image when it strays from it by less than this share of its size.
MIRRORED = 0.012
# Long enough for its direction to mean something.
SLENDER = 1.25

Kind = Literal["size", "turn", "place"]


@dataclass(frozen=True, eq=False)
class Reference:
    """What is compared.

    Attributes
    ----------
    key, name : str
    outline : (n, 3) array
        mm; a closed outline in order, or for what fills space points all over it.
    plane : (int, int) or None
        The world axes across which an outline is drawn; None for what fills space.
    movable : bool
        A picture may be rescaled, turned and moved; what was measured may not.
    scaled : bool
        A picture whose size was set by a known length is not rescaled to another picture.
    """

    key: str
    name: str
    outline: Floats
    plane: tuple[int, int] | None
    movable: bool = False
    scaled: bool = False


@dataclass(frozen=True, eq=False)
class Difference:
    """One thing in which two references contradict each other, or one is askew.

    Attributes
    ----------
    kind : {"size", "turn", "place"}
    first, second : str
        Keys; `second` is empty where `first` is compared with the world's axes.
    words : str
    amount : float
        What would bring `first` to `second`: a factor, radians, or mm along `axis`.
    axis : int
    about : (3,) array
        The middle of `first`, in space.
    matters : bool
        Whether it is more than references usually differ by.
    mends : bool
        Whether to bring `first` to `second` would be right: not where that undoes a scaling.
    """

    kind: Kind
    first: str
    second: str
    words: str
    amount: float
    axis: int
    about: Floats
    matters: bool
    mends: bool = True


@dataclass(frozen=True, eq=False)
class _Shape:
    """Moments of an outline in its plane: area, middle, direction of its long axis."""

    area: float
    middle: Floats
    angle: float
    slender: float


def agreement(references: Sequence[Reference]) -> list[Difference]:
    """Compare references pair by pair, what matters first, turns before sizes and places.

    Two outlines in one plane are compared by the areas, middles and long axes of their hulls, which
    noise in single points hardly moves; others by their extents along the axes that both show. An
    outline that is its own mirror image tells by itself whether it is turned.
    """
    found = _compared(references)
    # Of two the one that more others contradict is likely to be off: it is named first.
    blamed = [key for d in found if d.matters and d.kind == "size" for key in (d.first, d.second)]
    found = _compared(sorted(references, key=lambda one: -blamed.count(one.key)))
    # What is turned also looks longer or shorter: turns come first.
    order = ("turn", "size", "place")
    return sorted(found, key=lambda d: (not d.matters, order.index(d.kind)))


def _compared(references: Sequence[Reference]) -> list[Difference]:
    found: list[Difference] = []
    for one in references:
        found += _askew(one)
    for one, other in combinations(references, 2):
        # The less sure one is said to be off: what may be moved, what nobody has scaled.
        first, second = sorted((one, other), key=lambda each: (not each.movable, each.scaled))
        if first.plane is not None and _in_plane_of(first, second):
            found += _in_one_plane(first, second)
        else:
            found += _along_shared_axes(first, second)
    return found


def _in_plane_of(first: Reference, second: Reference) -> bool:
    return second.plane is None or set(first.plane or ()) == set(second.plane)


def _askew(one: Reference) -> list[Difference]:
    """Tell the turn of an outline that is its own mirror image."""
    if one.plane is None or not one.movable:
        return []
    flat = one.outline[:, one.plane]
    shape = _shape(flat)
    if shape.slender < SLENDER or _unlike_mirror(flat, shape) > MIRRORED:
        return []
    turn = _to_axis(shape.angle)
    along = one.plane[0] if abs(_to_half_turn(shape.angle)) < np.pi / 4 else one.plane[1]
    words = f"{one.name} is its own mirror image, and its centre line is turned by {_deg(turn)}"
    return [_turned(one, "", f"{words} from {AXES[along]}.", turn)]


def _in_one_plane(first: Reference, second: Reference) -> list[Difference]:
    assert first.plane is not None
    # Hulls are compared: a slot that one of them does not show moves them little, and what fills
    # space has no outline of its own.
    flat = [reference.outline[:, first.plane] for reference in (first, second)]
    a, b = (_shape(points[ConvexHull(points).vertices]) for points in flat)
    made = []
    factor = float(np.sqrt(b.area / a.area))
    size = float(np.sqrt(a.area))
    words = _size_words(first.name, second.name, 1 / factor, (1 / factor - 1) * size, "overall")
    middle = _in_space(first, a.middle)
    off = abs(factor - 1)
    made.append(_sized(first, second, words, factor, -1, middle, off > SIZE_SHARE))
    if min(a.slender, b.slender) > SLENDER:
        turn = _to_half_turn(a.angle - b.angle)
        words = f"{first.name} is turned by {_deg(turn)} against {second.name}."
        made.append(_turned(first, second.key, words, turn))
    for axis in first.plane:
        place = list(first.plane).index(axis)
        gap = float(b.middle[place] - a.middle[place])
        made.append(_placed(first, second, axis, gap, middle, size))
    return made


def _along_shared_axes(first: Reference, second: Reference) -> list[Difference]:
    made = []
    shared = set(first.plane or (0, 1, 2)) & set(second.plane or (0, 1, 2))
    for axis in sorted(shared):
        a, b = first.outline[:, axis], second.outline[:, axis]
        length, wanted = float(np.ptp(a)), float(np.ptp(b))
        if min(length, wanted) <= 0:
            continue
        share = length / wanted
        words = _size_words(first.name, second.name, share, length - wanted, f"along {AXES[axis]}")
        middle = (first.outline.min(axis=0) + first.outline.max(axis=0)) / 2
        off = abs(share - 1) > SIZE_SHARE
        made.append(_sized(first, second, words, 1 / share, axis, middle, off))
        gap = float(b.min() + b.max() - a.min() - a.max()) / 2
        made.append(_placed(first, second, axis, gap, middle, wanted))
    return made


def _sized(
    first: Reference,
    second: Reference,
    words: str,
    factor: float,
    axis: int,
    middle: Floats,
    off: bool,
) -> Difference:
    mends = not (first.scaled and second.movable)
    return Difference("size", first.key, second.key, words, factor, axis, middle, off, mends)


def _turned(first: Reference, second: str, words: str, turn: float) -> Difference:
    middle = (first.outline.min(axis=0) + first.outline.max(axis=0)) / 2
    matters = abs(np.degrees(turn)) > TURN_DEGREES
    return Difference("turn", first.key, second, words, -turn, -1, middle, matters)


def _placed(
    first: Reference, second: Reference, axis: int, gap: float, middle: Floats, size: float
) -> Difference:
    share = 100 * abs(gap) / size
    name = AXES[axis]
    if abs(gap) <= SIZE_SHARE * size:
        words = f"{first.name} and {second.name} have one centre line along {name}."
    else:
        words = (
            f"The middle of {first.name} is {abs(gap):.2f} mm ({share:.1f} %)"
            f" {'below' if gap > 0 else 'above'} that of {second.name} along {name}."
        )
    matters = abs(gap) > SIZE_SHARE * size
    return Difference("place", first.key, second.key, words, gap, axis, middle, matters)


def _size_words(first: str, second: str, share: float, gap: float, where: str) -> str:
    if abs(share - 1) <= SIZE_SHARE:
        return f"{first} and {second} agree {where}: {100 * (share - 1):+.1f} %."
    word = "shorter" if share < 1 else "longer"
    if where == "overall":
        word = "smaller" if share < 1 else "larger"
    return (
        f"{first} is {100 * abs(share - 1):.1f} % ({abs(gap):.2f} mm) {word} than {second} {where}."
    )


def _deg(angle: float) -> str:
    return f"{np.degrees(angle):+.1f}°".replace("-", "\N{MINUS SIGN}")


def _shape(flat: Floats) -> _Shape:
    """Return the moments of a closed outline, (n, 2), by Green's theorem (Bourke 1988)."""
    start = flat.mean(axis=0)
    x, y = (flat - start).T
    u, v = np.roll(x, -1), np.roll(y, -1)
    cross = x * v - u * y
    area = float(cross.sum()) / 2
    middle = np.array([((x + u) * cross).sum(), ((y + v) * cross).sum()]) / (6 * area)
    xx = float(((x * x + x * u + u * u) * cross).sum()) / (12 * area) - middle[0] ** 2
    yy = float(((y * y + y * v + v * v) * cross).sum()) / (12 * area) - middle[1] ** 2
    xy = float(((x * v + 2 * x * y + 2 * u * v + u * y) * cross).sum()) / (24 * area)
    xy -= float(middle[0] * middle[1])
    angle = 0.5 * float(np.arctan2(2 * xy, xx - yy))
    spread = np.hypot((xx - yy) / 2, xy)
    mean = (xx + yy) / 2
    slender = float(np.sqrt((mean + spread) / max(mean - spread, 1e-12)))
    return _Shape(abs(area), start + middle, angle, slender)


def _unlike_mirror(flat: Floats, shape: _Shape) -> float:
    """Return how far an outline strays from its mirror image in its long axis, as a share."""
    c, s = np.cos(shape.angle), np.sin(shape.angle)
    away = flat - shape.middle
    along, across = away @ [c, s], away @ [-s, c]
    mirrored = shape.middle + np.outer(along, [c, s]) - np.outer(across, [-s, c])
    stray = cKDTree(flat).query(mirrored)[0]
    return float(np.sqrt(np.mean(stray**2)) / np.ptp(along))


def _in_space(reference: Reference, flat: Floats) -> Floats:
    point = reference.outline.mean(axis=0)
    point[list(reference.plane or ())] = flat
    return point


def _to_half_turn(angle: float) -> float:
    """Bring an angle between directions into -90 to 90 degrees."""
    return float((angle + np.pi / 2) % np.pi - np.pi / 2)


def _to_axis(angle: float) -> float:
    """Return the turn from the nearest axis, -45 to 45 degrees."""
    return float((angle + np.pi / 4) % (np.pi / 2) - np.pi / 4)
