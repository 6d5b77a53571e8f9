"""What alters a chosen curve: made lean, fair, longer, parted, told as an arc."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.check.comb import comb_of
from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.fit.curve.arcs import with_splines
from usual_clay.core.fit.curve.fair import FairSettings, SlimSettings, fair, slim
from usual_clay.core.fit.curve.sequence import PointSequence
from usual_clay.core.spline.basis import SplineError
from usual_clay.core.spline.chain import Ongoing, extend
from usual_clay.core.spline.closest import curve_foot_points
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.parts import at_length, crossings, evenly, extremes, length_of, parts_at

# A curve is looked at by so many points where it is told how far it is an arc.
LOOKED_AT = 600
# Curves that pass each other by less than this, mm, touch.
TOUCHING = 1e-4


@dataclass(frozen=True)
class ExtendSettings:
    """A curve made longer: at its start (0) or end (1), by how much in mm, and how it goes on."""

    end: Literal[0, 1] = 1
    by: float = 5.0
    how: Ongoing = "as it runs"


@dataclass(frozen=True)
class SplitSettings:
    """Where a curve is cut, and what of it is kept.

    Attributes
    ----------
    rule : str
        At a share of its length, a parameter, the place nearest a control point, its extremes
        along an axis, or where another curve crosses it in view.
    at : float
        The share or the parameter, 0 to 1.
    axis : {"x", "y", "z"}
        Of the extremes.
    point : int
        The control point.
    keep : {"all", "first", "last", "longest"}
    """

    rule: Literal["share", "parameter", "point", "extremes", "crossings"] = "share"
    at: float = 0.5
    axis: Literal["x", "y", "z"] = "x"
    point: int = 0
    keep: Literal["all", "first", "last", "longest"] = "all"


@dataclass(frozen=True)
class ArcSettings:
    """How near an arc must lie, mm, and with how much continuity the rest meets it."""

    within: float = 0.05
    smooth: Literal[1, 2] = 1


@dataclass(frozen=True, eq=False)
class Altered:
    """What became of a chosen item.

    Attributes
    ----------
    curves : tuple
        Curves, or one surface.
    words : str
        What the user should know of it.
    names : tuple of str
        What further parts are called; the one without a name takes the chosen item's place.
        Empty where there is only that.
    """

    curves: tuple[Any, ...]
    words: str
    names: tuple[str, ...] = ()


def slimmed(settings: SlimSettings, sources: Sequence[BSplineCurve]) -> Altered:
    """Remake a curve with fewer control points."""
    (curve,) = sources
    made = slim(curve, settings)
    before, after = len(curve.points), len(made.curve.points)
    if made.curve is curve:
        return Altered(
            (curve,),
            f"fewer than {before} control points do not stay within"
            f" {settings.within:g} mm: it stays as it is",
        )
    return Altered((made.curve,), became(str(before), str(after), made.moved))


def became(before: str, after: str, moved: float) -> str:
    """Say how counts and shape changed."""
    return f"{before} control points become {after}; it moves by up to {moved:.4f} mm"


def faired(settings: FairSettings, sources: Sequence[BSplineCurve]) -> Altered:
    """Smooth a curve within a band."""
    (curve,) = sources
    made = fair(curve, settings)
    before, after = (len(comb_of(c).inflections) for c in (curve, made.curve))
    words = f"it moves by up to {made.moved:.4f} mm"
    if before != after:
        words += f"; {before} inflections become {after}"
    return Altered((made.curve,), words)


def extended(settings: ExtendSettings, sources: Sequence[BSplineCurve]) -> Altered:
    """Make a curve longer at one end."""
    (curve,) = sources
    longer = extend(curve, settings.end, settings.by, settings.how)
    return Altered((longer,), f"{length_of(curve):.3f} mm become {length_of(longer):.3f} mm")


def split_up(settings: SplitSettings, sources: Sequence[BSplineCurve]) -> Altered:
    """Cut a curve, and keep one part or all.

    Raises
    ------
    SplineError
        When nothing cuts it.
    """
    curve, *cutting = sources
    places, near_miss = _places(curve, cutting[0] if cutting else None, settings)
    parts = parts_at(curve, places)
    if len(parts) < 2:
        raise SplineError(f"nothing cuts the curve by the rule {settings.rule!r}: try another")
    sizes = [length_of(part) for part in parts]
    told = ", ".join(f"{size:.3f}" for size in sizes)
    words = f"{len(parts)} parts, {told} mm long" + near_miss
    if settings.keep == "all":
        names = tuple("" if k == 0 else f"part {k + 1}" for k in range(len(parts)))
        return Altered(tuple(parts), words, names)
    index = {"first": 0, "last": -1, "longest": int(np.argmax(sizes))}[settings.keep]
    return Altered((parts[index],), words + f"; the {settings.keep} is kept")


def _places(
    curve: BSplineCurve, other: BSplineCurve | None, settings: SplitSettings
) -> tuple[Floats, str]:
    """Return the parameters at which a curve is cut, and a warning of a near miss."""
    if settings.rule == "parameter":
        return np.array([settings.at]), ""
    if settings.rule == "share":
        return at_length(curve, np.array([settings.at * length_of(curve)])), ""
    if settings.rule == "point":
        if not 0 <= settings.point < len(curve.points):
            raise SplineError(f"the curve has no control point {settings.point + 1}")
        return curve_foot_points(curve, curve.points[[settings.point]])[0], ""
    if settings.rule == "extremes":
        return extremes(curve, "xyz".index(settings.axis)), ""
    if other is None:
        raise SplineError("choose the curve that cuts it")
    # Seen square to the plane that both lie in most nearly.
    both = np.concatenate([evenly(curve, 50), evenly(other, 50)])
    sight = np.eye(3)[int(np.argmin(np.ptp(both, axis=0)))]
    found = crossings(curve, other, sight)
    gap = float(found.gap.max(initial=0.0))
    missed = f"; near miss: the curves pass {gap:.3f} mm apart" if gap > TOUCHING else ""
    return found.first, missed


def arcs_of(settings: ArcSettings, sources: Sequence[PointSequence | BSplineCurve]) -> Altered:
    """Tell the longest stretch of a run or curve that is a line or an arc, with splines besides."""
    (source,) = sources
    points = source.points if isinstance(source, PointSequence) else evenly(source, LOOKED_AT)
    made = with_splines(points, Tolerance(settings.within), settings.smooth)
    stretch = made.stretch
    round_ = np.isfinite(stretch.radius)
    what = f"an arc of radius {stretch.radius:.3f} mm" if round_ else "a line"
    words = (
        f"{length_of(stretch.curve):.3f} mm of it are {what}, at most {stretch.worst:.4f} mm off"
    )
    named = [
        ("before", None if made.before is None else made.before.fit.curve),
        ("arc" if round_ else "line", stretch.curve),
        ("after", None if made.after is None else made.after.fit.curve),
    ]
    curves = tuple(curve for _, curve in named if curve is not None)
    return Altered(curves, words, tuple(name for name, curve in named if curve is not None))
