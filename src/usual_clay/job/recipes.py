"""Recipes: how an item follows from others.

Every kind registers once in `KINDS`, with the dataclass of its settings. Files, cards and the
command line read that table.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.build.combine import (
    BridgeSettings,
    CopySettings,
    PairSettings,
    TwinSettings,
    bridge,
    copied,
    pair_into_space,
    twin,
)
from usual_clay.core.build.offset import OffsetSettings, offset
from usual_clay.core.build.placed import (
    AcrossSettings,
    InSurfaceSettings,
    LaidSettings,
    drawn_on,
    in_surface,
    lay_onto,
    set_across,
)
from usual_clay.core.fit.cast import Cast, cast
from usual_clay.core.fit.curve.holds import HoldSettings, apply_holds
from usual_clay.core.fit.curve.sequence import CurveFit, PointSequence, TraceSettings, fit_sequence
from usual_clay.core.fit.parameterize.region import CastSettings
from usual_clay.core.fit.patch.patch import PatchFit, PatchSettings, patch
from usual_clay.core.fit.solve.slide import Start
from usual_clay.core.picture.outline import OutlineSettings, find_outline
from usual_clay.core.picture.placement import Placement, to_flat, to_space
from usual_clay.core.points.ball import BallSettings, offset_for_ball
from usual_clay.core.points.ball_in_space import offset_along_normals
from usual_clay.core.points.lay import lay
from usual_clay.core.points.project import (
    OntoSettings,
    ProjectError,
    onto_line,
    onto_mesh,
    onto_plane,
    onto_world,
)
from usual_clay.core.progress import Progress, silent
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.sample import Sample
from usual_clay.core.scan.section import SectionSettings, section_at
from usual_clay.core.scan.shapes import ShapeFit, ShapeSettings, SimpleShape, fit_shape
from usual_clay.core.spline.basis import SplineError
from usual_clay.core.spline.chain import ChainSettings, chain
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.make import DrawnSettings, make_curve
from usual_clay.core.spline.surface import BSplineSurface


@dataclass(frozen=True)
class Recipe:
    """How one item follows from others.

    Attributes
    ----------
    kind : str
        A name in `KINDS`.
    sources : tuple of str
        Ids of the items it is made from.
    settings : dataclass
        Of the type that the kind registers.
    """

    kind: str
    sources: tuple[str, ...]
    settings: Any


@dataclass(frozen=True, eq=False)
class PointsMade:
    """Points that a recipe gives, with what the user should know of them."""

    points: Floats
    closed: bool
    words: str = ""


@dataclass(frozen=True, eq=False)
class Pinned:
    """A picture as a source: where it lies, and its pixels when they are asked for."""

    placement: Placement
    size: tuple[int, int]
    pixels: Callable[[], np.ndarray]


@dataclass(frozen=True, eq=False)
class CurveMade:
    """A curve that a recipe gives, with what the user should know of it."""

    curve: BSplineCurve
    words: str = ""


Made = Cast | PointsMade | CurveMade | CurveFit | ShapeFit
Source = (
    Sample | PointSequence | TriangleMesh | SimpleShape | BSplineCurve | BSplineSurface | Pinned
)


@dataclass(frozen=True)
class Kind:
    """One way to make an item.

    Attributes
    ----------
    settings : type
        A frozen dataclass of numbers and words, with defaults.
    make : callable
        ``make(settings, sources, start, progress, found)``, a pure function. `start` may be what
        an earlier call on the same sources gave as its end; `found` is told of partial results.
    quick : bool
        Whether it is made in a moment, so that it can follow while a hand drags its source.
    """

    settings: type
    make: Callable[..., Made]
    quick: bool = False


def make_cast(
    settings: CastSettings,
    sources: Sequence[Sample],
    start: Start | None = None,
    progress: Progress = silent,
    found: Callable[[Cast], None] | None = None,
) -> Cast:
    """Cast a surface over the one sample in `sources`."""
    (sample,) = sources
    return cast(sample, settings, start, progress, found)


def make_ball(settings: BallSettings, sources: Sequence[Any], *_: object) -> PointsMade:
    """Move a run from the ball's centre to the surface, in its plane or along a scan's normals."""
    run, *scan = sources
    radius = settings.diameter / 2
    if scan:
        moved = offset_along_normals(run.points, radius, scan[0])
        words = f"{moved.too_tight} points lie too far from the scan" if moved.too_tight else ""
        return PointsMade(moved.points, run.closed, words)
    laid = lay(run.points)
    moved = offset_for_ball(laid.flat, radius, settings.side, run.closed)
    space = laid.space[moved.kept].copy()
    space[:, laid.axes[:2]] = moved.points
    words = (
        f"{moved.too_tight} points were trimmed: there the inside radius is too tight for a ball"
        f" of {settings.diameter:g} mm"
        if moved.too_tight
        else ""
    )
    return PointsMade(space, run.closed, words)


def make_onto(settings: OntoSettings, sources: Sequence[Any], *_: object) -> PointsMade:
    """Bring a run down onto a plane, a line or a scan."""
    run, *onto = sources
    if settings.onto not in ("shape", "scan"):
        return PointsMade(onto_world(run.points, settings.onto, settings.at), run.closed)
    if not onto:
        raise ProjectError("there is nothing to project onto any more")
    target = onto[0]
    if isinstance(target, TriangleMesh):
        return PointsMade(onto_mesh(run.points, target), run.closed)
    foot = onto_plane if target.kind == "plane" else onto_line
    return PointsMade(foot(run.points, target.point, target.axis), run.closed)


def make_section(
    settings: SectionSettings, sources: Sequence[TriangleMesh], *_: object
) -> PointsMade:
    """Cut a scan, and take one of the polylines that gives."""
    section = section_at(sources[0], settings)
    return PointsMade(section.points, section.closed)


def make_outline(settings: OutlineSettings, sources: Sequence[Pinned], *_: object) -> PointsMade:
    """Find an outline in a picture and lay it on the picture's plane."""
    (picture,) = sources
    outline = find_outline(picture.pixels(), settings)
    flat = to_flat(picture.placement, picture.size, outline.pixels)
    return PointsMade(to_space(picture.placement, flat), outline.closed)


def make_spline(
    settings: TraceSettings,
    sources: Sequence[PointSequence],
    _start: object = None,
    progress: Progress = silent,
    _found: object = None,
) -> CurveFit:
    """Fit a spline to a run."""
    return fit_sequence(sources[0], settings, progress)


def make_shape(settings: ShapeSettings, sources: Sequence[Sample], *_: object) -> ShapeFit:
    """Fit a simple shape to a region."""
    return fit_shape(sources[0], settings)


def make_patch(
    settings: PatchSettings,
    sources: Sequence[Any],
    start: Start | None = None,
    progress: Progress = silent,
    _found: object = None,
) -> PatchFit:
    """Fit a patch to a scan inside four curves; further sources are its neighbours."""
    mesh, *others = sources
    return patch(mesh, others[:4], beside(settings, others[4:]), settings, start, progress)


def beside(
    settings: PatchSettings, surfaces: Sequence[BSplineSurface]
) -> list[BSplineSurface | None]:
    """Return for each border of a patch the surface on its other side."""
    return [surfaces[k] if 0 <= k < len(surfaces) else None for k in settings.beside]


def make_drawn(settings: DrawnSettings, sources: Sequence[TriangleMesh], *_: object) -> CurveMade:
    """Make a curve from its own points; with a scan, one that lies on it."""
    return CurveMade(drawn_on(settings, sources[0]) if sources else make_curve(settings))


def make_held(settings: HoldSettings, sources: Sequence[BSplineCurve], *_: object) -> CurveMade:
    """Hold a curve of control points to its holds."""
    return CurveMade(apply_holds(settings.asked, settings.holds, sources))


def make_twin(settings: TwinSettings, sources: Sequence[BSplineCurve], *_: object) -> CurveMade:
    """Mirror a curve."""
    return CurveMade(twin(sources[0], settings))


def make_copy(settings: CopySettings, sources: Sequence[BSplineCurve], *_: object) -> CurveMade:
    """Copy a curve along an axis."""
    return CurveMade(copied(sources[0], settings))


def make_bridge(settings: BridgeSettings, sources: Sequence[BSplineCurve], *_: object) -> CurveMade:
    """Join two curves by a third."""
    return CurveMade(bridge(sources[0], sources[1], settings))


def make_pair(settings: PairSettings, sources: Sequence[BSplineCurve], *_: object) -> CurveMade:
    """Make one curve in space from two views."""
    paired = pair_into_space(sources[0], sources[1], settings)
    return CurveMade(paired.curve, paired.words)


def make_chain(settings: ChainSettings, sources: Sequence[BSplineCurve], *_: object) -> CurveMade:
    """Make one curve of several that meet."""
    made = chain(sources)
    if made.gap > settings.most:
        raise SplineError(
            f"the ends are {made.gap:.3f} mm apart: more than the {settings.most:g} mm that are"
            " closed"
        )
    return CurveMade(made.curve, f"the largest gap that was closed is {made.gap:.4f} mm")


def make_offset(settings: OffsetSettings, sources: Sequence[BSplineCurve], *_: object) -> CurveMade:
    """Set a curve beside another."""
    made = offset(sources[0], settings)
    return CurveMade(made.curve, made.words)


def make_across(settings: AcrossSettings, sources: Sequence[BSplineCurve], *_: object) -> CurveMade:
    """Set a profile square to a curve."""
    return CurveMade(set_across(sources[0], sources[1], settings))


def make_laid(settings: LaidSettings, sources: Sequence[Any], *_: object) -> CurveMade:
    """Lay a curve onto a plane, a surface or a scan."""
    curve, *target = sources
    return CurveMade(lay_onto(curve, target[0] if target else None, settings))


def make_in_surface(
    settings: InSurfaceSettings, sources: Sequence[BSplineSurface], *_: object
) -> CurveMade:
    """Take an edge, an isocurve or a cut of a surface."""
    return CurveMade(in_surface(sources[0], settings))


KINDS: Mapping[str, Kind] = {
    "cast": Kind(CastSettings, make_cast),
    "patch": Kind(PatchSettings, make_patch),
    "ball": Kind(BallSettings, make_ball),
    "onto": Kind(OntoSettings, make_onto),
    "section": Kind(SectionSettings, make_section),
    "outline": Kind(OutlineSettings, make_outline),
    "spline": Kind(TraceSettings, make_spline),
    "shape": Kind(ShapeSettings, make_shape),
    "drawn": Kind(DrawnSettings, make_drawn),
    "related": Kind(HoldSettings, make_held),
    "twin": Kind(TwinSettings, make_twin, quick=True),
    "copy": Kind(CopySettings, make_copy, quick=True),
    "bridge": Kind(BridgeSettings, make_bridge, quick=True),
    "pair": Kind(PairSettings, make_pair),
    "chain": Kind(ChainSettings, make_chain),
    "offset": Kind(OffsetSettings, make_offset),
    "across": Kind(AcrossSettings, make_across, quick=True),
    "laid": Kind(LaidSettings, make_laid),
    "in surface": Kind(InSurfaceSettings, make_in_surface),
}
