"""What recipes do: each makes something of its settings and sources, and puts it into its item."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
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
    plane_picked,
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
from usual_clay.core.check.deviation import distance_levels
from usual_clay.core.fit.cast import Cast, cast
from usual_clay.core.fit.curve.fit import fit_sequence
from usual_clay.core.fit.curve.holds import HoldSettings, apply_holds
from usual_clay.core.fit.curve.sequence import CurveFit, TraceSettings
from usual_clay.core.fit.parameterize.region import CastSettings
from usual_clay.core.fit.patch.patch import PatchFit, PatchSettings, patch
from usual_clay.core.fit.search.candidates import Candidate
from usual_clay.core.picture.outline import OutlineSettings, find_outline
from usual_clay.core.picture.placement import to_flat, to_space
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
from usual_clay.core.progress import Progress
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.section import SectionSettings, section_at
from usual_clay.core.scan.shapes import ShapeFit, ShapeSettings, fit_shape
from usual_clay.core.spline.basis import SplineError
from usual_clay.core.spline.chain import ChainSettings, chain
from usual_clay.core.spline.make import DrawnSettings, make_curve
from usual_clay.job.items import (
    Curve,
    PointList,
    Shape,
    Surface,
)
from usual_clay.job.made import CurveMade, Given, PointsMade, SurfaceMade
from usual_clay.job.searching import beside

# Told of partial results, from the computing thread.
Found = Callable[[Any], None]


def put_points(item: PointList, made: PointsMade, _finished: bool) -> PointList:
    """Put points into a list; what is taken out of as many stays so."""
    out = item.out if len(made.points) == len(item.points) else item.out[:0]
    return replace(item, points=made.points, closed=made.closed, out=out)


def put_curve(item: Curve, made: CurveMade, _finished: bool) -> Curve:
    """Put a curve into its item; nothing measured judges it."""
    return replace(item, geometry=made.curve, signed=None)


def put_spline(item: Curve, made: CurveFit, finished: bool) -> Curve:
    """Put a fitted spline into its curve; a finished one joins the candidates."""
    candidates = item.candidates
    if finished:
        mine = Candidate(len(made.curve.points), 1, distance_levels(made.signed))
        candidates = with_candidate(candidates, mine)
    return replace(item, geometry=made.curve, signed=made.signed, candidates=candidates)


def put_surface(item: Surface, made: SurfaceMade, _finished: bool) -> Surface:
    """Put a surface into its item; what it follows between its curves judges it, or they do."""
    away = list(made.away.values())
    signed = np.concatenate(away) if away else None
    signed = signed if made.signed is None else made.signed
    return replace(item, geometry=made.surface, signed=signed, inside=made.inside)


def put_cast(item: Surface, made: Cast, finished: bool) -> Surface:
    """Put a fitted surface into its item; a finished one joins the candidates."""
    candidates = item.candidates
    if finished:
        mine = Candidate(*made.surface.counts, distance_levels(made.feet.signed, made.areas))
        candidates = with_candidate(candidates, mine)
    inside = made.inside if isinstance(made, PatchFit) else None
    return replace(
        item, geometry=made.surface, signed=made.feet.signed, candidates=candidates, inside=inside
    )


def put_shape(item: Shape, made: ShapeFit, _finished: bool) -> Shape:
    """Put a fitted simple shape into its item."""
    return replace(item, geometry=made.shape, signed=made.signed)


def with_candidate(candidates: tuple[Candidate, ...], mine: Candidate) -> tuple[Candidate, ...]:
    """Put a candidate in place of the one of its counts."""
    old = next((c for c in candidates if (c.nu, c.nv) == (mine.nu, mine.nv)), None)
    if old is not None and mine.surface is None:
        mine = replace(mine, surface=old.surface)
    return (*(c for c in candidates if (c.nu, c.nv) != (mine.nu, mine.nv)), mine)


# ---- surfaces ----------------------------------------------------------------------------------


def make_cast(settings: CastSettings, given: Given, progress: Progress, found: Found) -> Cast:
    """Cast a surface from the one sample."""
    return cast(given.one("measured"), settings, progress, found)


def make_patch(settings: PatchSettings, given: Given, progress: Progress, found: Found) -> PatchFit:
    """Fit a patch to a scan inside four curves."""
    return patch(
        given.one("scan"), given.all("borders"), beside(settings, given), settings, progress, found
    )


# ---- points ------------------------------------------------------------------------------------


def make_ball(settings: BallSettings, given: Given, *_: object) -> PointsMade:
    """Move a run from the ball's centre to the surface, in its plane or along a scan's normals."""
    run, scan = given.one("points"), given.maybe("scan")
    radius = settings.diameter / 2
    if scan is not None:
        moved = offset_along_normals(run.points, radius, scan)
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


def make_onto(settings: OntoSettings, given: Given, *_: object) -> PointsMade:
    """Bring a run down onto a plane, a line or a scan."""
    run, target = given.one("points"), given.maybe("onto")
    if settings.onto not in ("shape", "scan"):
        return PointsMade(onto_world(run.points, settings.onto, settings.at), run.closed)
    if target is None:
        raise ProjectError("there is nothing to project onto any more")
    if isinstance(target, TriangleMesh):
        return PointsMade(onto_mesh(run.points, target), run.closed)
    foot = onto_plane if target.kind == "plane" else onto_line
    return PointsMade(foot(run.points, target.point, target.axis), run.closed)


def make_section(settings: SectionSettings, given: Given, *_: object) -> PointsMade:
    """Cut a scan, and take one of the polylines that gives."""
    section = section_at(given.one("scan"), settings)
    return PointsMade(section.points, section.closed)


def make_outline(settings: OutlineSettings, given: Given, *_: object) -> PointsMade:
    """Find an outline in a picture and lay it on the picture's plane."""
    picture = given.one("picture")
    outline = find_outline(picture.pixels(), settings)
    flat = to_flat(picture.placement, picture.size, outline.pixels)
    return PointsMade(to_space(picture.placement, flat), outline.closed)


# ---- curves and shapes -------------------------------------------------------------------------


def make_spline(settings: TraceSettings, given: Given, progress: Progress, _: Found) -> CurveFit:
    """Fit a spline to a run."""
    return fit_sequence(given.one("points"), settings, progress)


def make_shape(settings: ShapeSettings, given: Given, *_: object) -> ShapeFit:
    """Fit a simple shape to a region."""
    return fit_shape(given.one("measured"), settings)


def make_drawn(settings: DrawnSettings, given: Given, *_: object) -> CurveMade:
    """Make a curve from its own points; with a scan, one that lies on it."""
    scan = given.maybe("scan")
    return CurveMade(make_curve(settings) if scan is None else drawn_on(settings, scan))


def make_held(settings: HoldSettings, given: Given, *_: object) -> CurveMade:
    """Let a curve of control points keep its holds."""
    return CurveMade(apply_holds(settings.asked, settings.holds, given.all("neighbours")))


def make_twin(settings: TwinSettings, given: Given, *_: object) -> CurveMade:
    """Mirror a curve."""
    return CurveMade(twin(given.one("curve"), mirror_plane(settings, given)))


def mirror_plane(settings: TwinSettings, given: Given) -> tuple[Floats, Floats]:
    """Return the plane to mirror in: the picked one, or the one of the settings.

    Raises
    ------
    SplineError
        Where what was picked is no plane.
    """
    return plane_picked(settings, given.maybe("plane"))


def make_copy(settings: CopySettings, given: Given, *_: object) -> CurveMade:
    """Copy a curve along an axis."""
    return CurveMade(copied(given.one("curve"), settings))


def make_bridge(settings: BridgeSettings, given: Given, *_: object) -> CurveMade:
    """Join two curves by a third."""
    return CurveMade(bridge(given.one("first"), given.one("second"), settings))


def make_pair(settings: PairSettings, given: Given, *_: object) -> CurveMade:
    """Make one curve in space from two views."""
    paired = pair_into_space(given.one("first"), given.one("second"), settings)
    return CurveMade(paired.curve, paired.words)


def make_chain(settings: ChainSettings, given: Given, *_: object) -> CurveMade:
    """Make one curve of several that meet."""
    made = chain(given.all("curves"))
    if made.gap > settings.most:
        raise SplineError(
            f"the ends are {made.gap:.3f} mm apart: more than the {settings.most:g} mm that are"
            " closed"
        )
    return CurveMade(made.curve, f"the largest gap that was closed is {made.gap:.4f} mm")


def make_offset(settings: OffsetSettings, given: Given, *_: object) -> CurveMade:
    """Set a curve beside another."""
    made = offset(given.one("curve"), settings)
    return CurveMade(made.curve, made.words)


def make_across(settings: AcrossSettings, given: Given, *_: object) -> CurveMade:
    """Set a profile square to a curve."""
    return CurveMade(set_across(given.one("profile"), given.one("along"), settings))


def make_laid(settings: LaidSettings, given: Given, *_: object) -> CurveMade:
    """Lay a curve onto a plane, a surface or a scan."""
    return CurveMade(lay_onto(given.one("curve"), given.maybe("onto"), settings))


def make_in_surface(settings: InSurfaceSettings, given: Given, *_: object) -> CurveMade:
    """Take an edge, an isocurve or a cut of a surface."""
    return CurveMade(in_surface(given.one("surface"), settings))
