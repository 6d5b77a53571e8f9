"""The table of recipes: ONE ROW for each way to make an item from others.

Cards, files, the command line, the demo and the finder read `KINDS`. A recipe is a pure function
of its settings and its sources, which it is given by role.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from usual_clay.core.build.blend import BlendSettings
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
from usual_clay.core.build.fill import FillSettings
from usual_clay.core.build.loft import LoftSettings
from usual_clay.core.build.net import NetSettings
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
from usual_clay.core.build.rails import SweepSettings, TwoRailSettings
from usual_clay.core.build.straight import ExtrudeSettings, RuledSettings
from usual_clay.core.build.turned import RevolveSettings, TubeSettings
from usual_clay.core.check.deviation import distance_levels
from usual_clay.core.errors import ClayError
from usual_clay.core.fit.cast import Cast, cast
from usual_clay.core.fit.curve.fitter import fit_sequence
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
from usual_clay.job import from_curves
from usual_clay.job.items import (
    Curve,
    Followed,
    Item,
    Picture,
    PointList,
    Region,
    Scan,
    Shape,
    Surface,
)
from usual_clay.job.made import CurveMade, Given, PointsMade, SurfaceMade
from usual_clay.job.searching import CAST_SEARCH, PATCH_SEARCH, SPLINE_SEARCH, Searching, beside

# Told of partial results, from the computing thread.
Found = Callable[[Any], None]
Make = Callable[[Any, Given, Progress, Found], Any]


class RecipeError(ClayError):
    """A recipe that is not there, or whose roles are not taken as it asks."""


@dataclass(frozen=True)
class Role:
    """What a recipe's sources are to it.

    Attributes
    ----------
    name : str
    takes : tuple of item classes
    label : str
        How the user reads it.
    least, most : int
        How many items take it; `most` 0 for any number.
    sample : bool
        Whether it is given as measured points with what is known of them, not as the item itself.
    """

    name: str
    takes: tuple[type[Item], ...]
    label: str = ""
    least: int = 1
    most: int = 1
    sample: bool = False

    @property
    def words(self) -> str:
        return self.label or self.name.capitalize()


@dataclass(frozen=True)
class Kind:
    """One way to make an item.

    Attributes
    ----------
    name, title : str
        How files and code name it, and how the user reads it.
    roles : tuple of Role
    settings : type
        A frozen dataclass of numbers and words, with defaults, that refuses what makes no sense.
    result : type
        The class of the item.
    make : callable
        ``make(settings, given, progress, found)``, a pure function. `found` is told of partial
        results.
    put : callable
        ``put(item, made, finished)`` gives the item with what was made.
    search : Searching or None
        How the fewest control points for a tolerance are found.
    about : str
        In a sentence, what it makes.
    suffix : str
        What a new one is called after its first source; "{}" is that source's name.
    judged_by : str
        The role whose item judges the result.
    quick : bool
        Whether it is made in a moment, so that it follows while a hand drags its source.
    """

    name: str
    title: str
    roles: tuple[Role, ...]
    settings: type
    result: type[Followed]
    make: Make
    put: Callable[[Any, Any, bool], Followed]
    search: Searching | None = None
    about: str = ""
    suffix: str = "{}"
    judged_by: str = ""
    quick: bool = False

    def role(self, name: str) -> Role:
        """Return a role by its name.

        Raises
        ------
        RecipeError
        """
        for role in self.roles:
            if role.name == name:
                return role
        names = ", ".join(role.name for role in self.roles)
        raise RecipeError(f"{self.title} has no role {name!r}: it has {names}")


def kind_of(name: str) -> Kind:
    """Return a row of the table.

    Raises
    ------
    RecipeError
    """
    if name not in KINDS:
        raise RecipeError(f"there is no way to make a {name!r}: there are {', '.join(KINDS)}")
    return KINDS[name]


# ---- putting what was made into its item -------------------------------------------------------


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
    return CurveMade(twin(given.one("curve"), settings))


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


CURVE, SCAN = (Curve,), (Scan,)
# What a surface from curves follows between them.
NEAR = Role("near", (Region, PointList), "Near the scan", least=0, sample=True)
KINDS: dict[str, Kind] = {
    kind.name: kind
    for kind in (
        Kind(
            "cast", "Cast", (Role("measured", (Region, PointList), "Region", sample=True),),
            CastSettings, Surface, make_cast, put_cast, CAST_SEARCH,
            "A surface fitted to a region of a scan, or to loose points", "{} cast", "measured",
        ),
        Kind(
            "patch", "Four-corner patch",
            (Role("scan", SCAN), Role("borders", CURVE, least=4, most=4),
             Role("beside", (Surface,), "Goes on from", 0, 4)),
            PatchSettings, Surface, make_patch, put_cast, PATCH_SEARCH,
            "A surface fitted to the scan inside four borders", "Patch 1", "scan",
        ),
        Kind(
            "ball", "Ball offset", (Role("points", (PointList,)), Role("scan", SCAN, least=0)),
            BallSettings, PointList, make_ball, put_points, None,
            "Probed points moved from the ball's centre to the surface", "{} moved",
        ),
        Kind(
            "onto", "Project points",
            (Role("points", (PointList,)), Role("onto", (Shape, Scan), least=0)),
            OntoSettings, PointList, make_onto, put_points, None,
            "Points brought down onto a plane, a line or a scan", "{} projected",
        ),
        Kind(
            "section", "Slice", (Role("scan", SCAN),), SectionSettings, PointList, make_section,
            put_points, None, "Where a plane cuts a scan", "{} slice",
        ),
        Kind(
            "outline", "Outline", (Role("picture", (Picture,)),), OutlineSettings, PointList,
            make_outline, put_points, None, "The outline of what a picture shows", "{} outline",
        ),
        Kind(
            "spline", "Spline", (Role("points", (PointList,), "Run"),), TraceSettings, Curve,
            make_spline, put_spline, SPLINE_SEARCH, "A spline that follows a run of points",
            "{} spline", "points",
        ),
        Kind(
            "shape", "Simple shape", (Role("measured", (Region,), "Region", sample=True),),
            ShapeSettings, Shape, make_shape, put_shape, None,
            "A plane, cylinder, sphere or cone", "{} shape", "measured",
        ),
        Kind(
            "drawn", "Drawn curve", (Role("scan", SCAN, least=0),), DrawnSettings, Curve,
            make_drawn, put_curve, None, "A curve through points, by control points, or on a scan",
            "Curve 1",
        ),
        Kind(
            "held", "Curve with holds", (Role("neighbours", CURVE, least=0, most=0),),
            HoldSettings, Curve, make_held, put_curve, None,
            "A curve shaped by hand that keeps its holds", "{} held",
        ),
        Kind(
            "twin", "Twin", (Role("curve", CURVE),), TwinSettings, Curve, make_twin, put_curve,
            None, "A mirrored copy that follows its original", "{} twin", quick=True,
        ),
        Kind(
            "copy", "Copy along an axis", (Role("curve", CURVE),), CopySettings, Curve, make_copy,
            put_curve, None, "Copies that follow their original", "{} copy", quick=True,
        ),
        Kind(
            "bridge", "Bridge",
            (Role("first", CURVE, "First curve"), Role("second", CURVE, "Second curve")),
            BridgeSettings, Curve, make_bridge, put_curve, None,
            "A curve from one to another, smooth to both", "Bridge 1", quick=True,
        ),
        Kind(
            "pair", "Pair into space",
            (Role("first", CURVE, "First view"), Role("second", CURVE, "Second view")),
            PairSettings, Curve, make_pair, put_curve, None,
            "One curve in space from two that are drawn in two true views", "Pair 1",
        ),
        Kind(
            "chain", "Join", (Role("curves", CURVE, least=2, most=0),), ChainSettings, Curve,
            make_chain, put_curve, None, "Curves that meet end to end, made into one", "Joined 1",
        ),
        Kind(
            "offset", "Offset", (Role("curve", CURVE),), OffsetSettings, Curve, make_offset,
            put_curve, None, "A curve at a distance, in a plane; loops are removed", "{} offset",
        ),
        Kind(
            "across", "Set across", (Role("profile", CURVE), Role("along", CURVE)),
            AcrossSettings, Curve, make_across, put_curve, None,
            "A flat profile placed square to a curve", "{} across", quick=True,
        ),
        Kind(
            "laid", "Lay onto",
            (Role("curve", CURVE), Role("onto", (Surface, Scan), least=0)), LaidSettings, Curve,
            make_laid, put_curve, None,
            "A curve brought onto a plane, a surface or a scan", "{} laid",
        ),
        Kind(
            "in surface", "Curve of a surface", (Role("surface", (Surface,)),), InSurfaceSettings,
            Curve, make_in_surface, put_curve, None,
            "An edge, an isocurve, or where a plane cuts it", "{} line",
        ),
        Kind(
            "loft", "Loft",
            (Role("sections", CURVE, "Section", least=2, most=0),
             Role("rails", CURVE, "Rail", least=0, most=0), NEAR),
            LoftSettings, Surface, from_curves.make_loft, put_surface, None,
            "A lean surface through sections, in order", "Loft 1", "near",
        ),
        Kind(
            "net", "Net",
            (Role("along", CURVE, "Along", least=2, most=0),
             Role("across", CURVE, "Across", least=2, most=0), NEAR),
            NetSettings, Surface, from_curves.make_net, put_surface, None,
            "A lean surface through two families of crossing curves", "Net 1", "near",
        ),
        Kind(
            "two-rail", "Two-rail",
            (Role("rails", CURVE, "Rail", least=2, most=2),
             Role("profiles", CURVE, "Profile", least=1, most=0), NEAR),
            TwoRailSettings, Surface, from_curves.make_two_rail, put_surface, None,
            "Profiles carried along two rails", "Two-rail 1", "near",
        ),
        Kind(
            "sweep", "Sweep",
            (Role("path", CURVE), Role("profiles", CURVE, "Profile", least=1, most=0), NEAR),
            SweepSettings, Surface, from_curves.make_sweep, put_surface, None,
            "Profiles carried along a path", "Sweep 1", "near",
        ),
        Kind(
            "guided revolve", "Guided revolve",
            (Role("profile", CURVE), Role("axis", (Curve, Shape)), Role("rail", CURVE, least=0),
             NEAR),
            RevolveSettings, Surface, from_curves.make_revolve, put_surface, None,
            "A profile turned about an axis while its end follows a rail", "Revolve 1", "near",
        ),
        Kind(
            "tube", "Tube", (Role("path", CURVE), Role("profile", CURVE, least=0)), TubeSettings,
            Surface, from_curves.make_tube, put_surface, None,
            "A round tube, or one of a closed profile, along a path", "{} tube",
        ),
        Kind(
            "fill", "Fill",
            (Role("edges", CURVE, "Edge", least=2, most=0),
             Role("beside", (Surface,), "Smooth to", least=0, most=0), NEAR),
            FillSettings, Surface, from_curves.make_fill, put_surface, None,
            "A calm surface inside a loop of edges, smooth to what lies beside", "Fill 1", "near",
        ),
        Kind(
            "blend", "Blend",
            (Role("first", (Surface,), "First surface"),
             Role("second", (Surface,), "Second surface")),
            BlendSettings, Surface, from_curves.make_blend, put_surface, None,
            "A surface from the edge of one to the edge of another, smooth to both", "Blend 1",
            quick=True,
        ),
        Kind(
            "extrude", "Extrude", (Role("curve", CURVE), Role("direction", CURVE, least=0)),
            ExtrudeSettings, Surface, from_curves.make_extrude, put_surface, None,
            "A curve pushed along a direction", "{} extruded", quick=True,
        ),
        Kind(
            "ruled", "Ruled", (Role("edges", CURVE, "Edge", least=2, most=2),), RuledSettings,
            Surface, from_curves.make_ruled, put_surface, None,
            "Straight lines between two edges", "Ruled 1", quick=True,
        ),
        Kind(
            "surface twin", "Twin of a surface", (Role("surface", (Surface,)),), TwinSettings,
            Surface, from_curves.make_surface_twin, put_surface, None,
            "A mirrored copy of a surface that follows its original", "{} twin", quick=True,
        ),
    )
}  # fmt: skip


def recipe_problem(kind: Kind, roles: Mapping[str, Sequence[object]]) -> str:
    """Return what is wrong with how many things take each role, or nothing."""
    for name in roles:
        kind.role(name)
    for role in kind.roles:
        count = len(roles.get(role.name, ()))
        if count < role.least:
            many = "one" if role.least == 1 else str(role.least)
            return f"{kind.title} needs {many} for the role {role.name}, not {count}"
        if role.most and count > role.most:
            return f"{kind.title} takes at most {role.most} for the role {role.name}, not {count}"
    return ""
