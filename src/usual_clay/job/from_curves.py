"""Recipes of surfaces from curves: what takes each role, and what is made of it."""

from __future__ import annotations

from dataclasses import fields, replace

import numpy as np

from usual_clay.core.arrays import Bools, Floats
from usual_clay.core.build.blank import BlankSettings, blank_guide
from usual_clay.core.build.blend import BlendSettings, blend
from usual_clay.core.build.combine import TwinSettings
from usual_clay.core.build.fill import FillSettings, FlatSettings, fill_guide, flat_face
from usual_clay.core.build.lean import Built, Guide, Spend, lean_surface
from usual_clay.core.build.loft import LoftSettings, loft_guide
from usual_clay.core.build.near import near
from usual_clay.core.build.net import NetSettings, net_guide
from usual_clay.core.build.rails import SweepSettings, TwoRailSettings, sweep_guide, two_rail_guide
from usual_clay.core.build.sections import SAMPLES, BuildError
from usual_clay.core.build.straight import ExtrudeSettings, RuledSettings, extrude, ruled
from usual_clay.core.build.surface_edits import mirror_image
from usual_clay.core.build.turned import RevolveSettings, TubeSettings, revolve_guide, tube_guide
from usual_clay.core.fit.curve.sequence import PointSequence
from usual_clay.core.progress import Progress
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.shapes import SimpleShape
from usual_clay.core.spline.closest import FootPoints, foot_points
from usual_clay.core.spline.curve import BSplineCurve, curve_points
from usual_clay.core.spline.surface import (
    BSplineSurface,
    runs_round,
    surface_grid,
    surface_points,
)
from usual_clay.job.made import Given, SurfaceMade
from usual_clay.job.makers import mirror_plane


def _lean(guide: Guide, settings: Spend, given: Given, progress: Progress) -> SurfaceMade:
    sample = given.maybe("near")
    if sample is not None:
        guide = near(guide, sample, settings.scan)
    built: Built = lean_surface(guide, settings, progress)
    runs = {name: line.points for name, line in zip(guide.names, guide.lines, strict=False)}
    made = SurfaceMade(built.surface, built.words, built.distances, built.gaps, runs)
    if sample is None:
        return made
    feet = foot_points(built.surface, sample.points)
    if sample.triangles is None:
        # Loose points are all meant.
        return replace(made, signed=feet.signed)
    inside = np.flatnonzero(_within(built.surface, feet))
    if not len(inside):
        raise BuildError("no measured point lies within the surface: choose another region")
    return replace(made, signed=feet.signed[inside], inside=inside)


def _within(surface: BSplineSurface, feet: FootPoints) -> Bools:
    """Tell which points have their foot inside a surface, not on an edge that they lie beyond."""
    round_u, round_v = runs_round(surface, 1e-9)
    inside_u = (feet.u > 0) & (feet.u < 1) | round_u
    return np.asarray(inside_u & ((feet.v > 0) & (feet.v < 1) | round_v))


def make_loft(settings: LoftSettings, given: Given, progress: Progress, _: object) -> SurfaceMade:
    """Loft through sections; with rails along them it is a net of both."""
    if rails := given.all("rails"):
        spent = {each.name: getattr(settings, each.name) for each in fields(Spend)}
        guide = net_guide(rails, given.all("sections"), NetSettings(**spent), ("rail", "section"))
        return _lean(guide, settings, given, progress)
    tips = [each.points for each in given.all("tips")]
    places = np.concatenate(tips) if tips else None
    guide = loft_guide(given.all("sections"), settings, places, given.all("beside"))
    return _lean(guide, settings, given, progress)


def make_net(settings: NetSettings, given: Given, progress: Progress, _: object) -> SurfaceMade:
    """Lay a net through two families of curves."""
    guide = net_guide(given.all("along"), given.all("across"), settings)
    return _lean(guide, settings, given, progress)


def make_two_rail(
    settings: TwoRailSettings, given: Given, progress: Progress, _: object
) -> SurfaceMade:
    """Carry profiles along two rails."""
    guide = two_rail_guide(given.all("rails"), given.all("profiles"), settings)
    return _lean(guide, settings, given, progress)


def make_sweep(settings: SweepSettings, given: Given, progress: Progress, _: object) -> SurfaceMade:
    """Carry profiles along a path."""
    guide = sweep_guide(given.one("path"), given.all("profiles"), settings)
    return _lean(guide, settings, given, progress)


def make_revolve(
    settings: RevolveSettings, given: Given, progress: Progress, _: object
) -> SurfaceMade:
    """Turn a profile about an axis, guided by a rail."""
    axis = _axis(given.one("axis"))
    guide = revolve_guide(given.one("profile"), axis, given.maybe("rail"), settings)
    return _lean(guide, settings, given, progress)


def _axis(source: BSplineCurve | SimpleShape) -> tuple[Floats, Floats]:
    if isinstance(source, SimpleShape):
        return source.point, source.axis
    ends = curve_points(source, source.domain)
    if not (ends[0] != ends[1]).any():
        raise BuildError("the axis ends where it begins: take a straight line")
    return ends[0], ends[1] - ends[0]


def make_tube(settings: TubeSettings, given: Given, progress: Progress, _: object) -> SurfaceMade:
    """Lay a tube round a path."""
    guide = tube_guide(given.one("path"), given.maybe("profile"), settings)
    return _lean(guide, settings, given, progress)


def make_fill(settings: FillSettings, given: Given, progress: Progress, _: object) -> SurfaceMade:
    """Fill a loop of edges."""
    passed = [each.points for each in given.all("points")]
    places = np.concatenate(passed) if passed else None
    edges, beside = given.all("edges"), given.all("beside")
    guide = fill_guide(edges, beside, settings, given.all("guides"), places)
    return _lean(guide, settings, given, progress)


def make_flat(settings: FlatSettings, given: Given, progress: Progress, _: object) -> SurfaceMade:
    """Lay a plane face inside curves."""
    made = flat_face(given.all("edges"), settings)
    if isinstance(made, BSplineSurface):
        return SurfaceMade(made)
    return _lean(made, settings, given, progress)


def make_blank(settings: BlankSettings, given: Given, progress: Progress, _: object) -> SurfaceMade:
    """Lay a start shape out, sized to what is chosen."""
    seen = [_extent(each) for each in given.all("references")]
    box = None
    if seen:
        every = np.concatenate(seen)
        box = np.stack([every.min(axis=0), every.max(axis=0)])
    return _lean(blank_guide(box, settings), settings, given, progress)


def _extent(source: TriangleMesh | PointSequence | BSplineCurve | BSplineSurface) -> Floats:
    """Return places that span what a source spans."""
    if isinstance(source, TriangleMesh):
        return np.stack([source.vertices.min(axis=0), source.vertices.max(axis=0)])
    if isinstance(source, PointSequence):
        return source.points
    if isinstance(source, BSplineCurve):
        return curve_points(source, np.linspace(*source.domain, 200))
    steps = np.linspace(0, 1, 40)
    return surface_grid(source, steps, steps).reshape(-1, 3)


def make_blend(settings: BlendSettings, given: Given, *_: object) -> SurfaceMade:
    """Blend two surfaces."""
    return SurfaceMade(blend(given.one("first"), given.one("second"), settings))


def make_extrude(settings: ExtrudeSettings, given: Given, *_: object) -> SurfaceMade:
    """Push a curve along a direction."""
    until = given.maybe("until")
    return SurfaceMade(extrude(given.one("curve"), given.maybe("direction"), settings, until))


def make_ruled(settings: RuledSettings, given: Given, *_: object) -> SurfaceMade:
    """Draw straight lines between two edges."""
    made = ruled(given.all("edges"), settings)
    t = np.linspace(0, 1, SAMPLES)
    runs = {f"edge {k + 1}": surface_points(made, t, np.full(SAMPLES, float(k))) for k in (0, 1)}
    return SurfaceMade(made, runs=runs)


def make_surface_twin(settings: TwinSettings, given: Given, *_: object) -> SurfaceMade:
    """Mirror a surface; its normals point outward as the original's do."""
    return SurfaceMade(mirror_image(given.one("surface"), mirror_plane(settings, given)))


def within(settings: object, distance: float) -> object:
    """Return settings that ask for a distance, where they ask for any."""
    return replace(settings, within=distance) if isinstance(settings, Spend) else settings
