"""How surfaces from curves are laid out: what takes each role, and the guide that follows."""

from __future__ import annotations

from dataclasses import fields

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.build.blank import BlankSettings, blank_guide
from usual_clay.core.build.fill import FillSettings, fill_guide
from usual_clay.core.build.guide import Guide, Spend
from usual_clay.core.build.loft import LoftSettings, loft_guide
from usual_clay.core.build.net import NetSettings, net_guide
from usual_clay.core.build.rails import SweepSettings, TwoRailSettings, sweep_guide, two_rail_guide
from usual_clay.core.build.sections import BuildError
from usual_clay.core.build.turned import RevolveSettings, TubeSettings, revolve_guide, tube_guide
from usual_clay.core.fit.curve.sequence import PointSequence
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.shapes import SimpleShape
from usual_clay.core.spline.curve import BSplineCurve, curve_points
from usual_clay.core.spline.surface import BSplineSurface, surface_grid
from usual_clay.job.made import Given


def loft(settings: LoftSettings, given: Given) -> Guide:
    """Loft through sections; with rails along them it is a net of both."""
    if rails := given.all("rails"):
        spent = {each.name: getattr(settings, each.name) for each in fields(Spend)}
        return net_guide(rails, given.all("sections"), NetSettings(**spent), ("rail", "section"))
    tips = [each.points for each in given.all("tips")]
    places = np.concatenate(tips) if tips else None
    return loft_guide(given.all("sections"), settings, places, given.all("beside"))


def net(settings: NetSettings, given: Given) -> Guide:
    """Lay a net through two families of curves."""
    return net_guide(given.all("along"), given.all("across"), settings)


def two_rail(settings: TwoRailSettings, given: Given) -> Guide:
    """Carry profiles along two rails."""
    return two_rail_guide(given.all("rails"), given.all("profiles"), settings)


def sweep(settings: SweepSettings, given: Given) -> Guide:
    """Carry profiles along a path."""
    return sweep_guide(given.one("path"), given.all("profiles"), settings)


def revolve(settings: RevolveSettings, given: Given) -> Guide:
    """Turn a profile about an axis, guided by a rail."""
    axis = axis_of(given.one("axis"))
    return revolve_guide(given.one("profile"), axis, given.maybe("rail"), settings)


def axis_of(source: BSplineCurve | SimpleShape) -> tuple[Floats, Floats]:
    """Return a place on an axis and its direction, of a shape's own or from a curve's ends.

    Raises
    ------
    BuildError
        For a curve that ends where it begins.
    """
    if isinstance(source, SimpleShape):
        return source.point, source.axis
    ends = curve_points(source, source.domain)
    if not (ends[0] != ends[1]).any():
        raise BuildError("the axis ends where it begins: take a straight line")
    return ends[0], ends[1] - ends[0]


def tube(settings: TubeSettings, given: Given) -> Guide:
    """Lay a tube round a path."""
    return tube_guide(given.one("path"), given.maybe("profile"), settings)


def fill(settings: FillSettings, given: Given) -> Guide:
    """Fill a loop of edges."""
    passed = [each.points for each in given.all("points")]
    places = np.concatenate(passed) if passed else None
    edges, beside = given.all("edges"), given.all("beside")
    return fill_guide(edges, beside, settings, given.all("guides"), places)


def blank(settings: BlankSettings, given: Given) -> Guide:
    """Lay a start shape out, sized to what is chosen."""
    seen = [_extent(each) for each in given.all("references")]
    box = None
    if seen:
        every = np.concatenate(seen)
        box = np.stack([every.min(axis=0), every.max(axis=0)])
    return blank_guide(box, settings)


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
