"""The table of recipes: ONE ROW for each way to make an item from others.

Cards, files, the command line, the demo and the finder read `KINDS`. A recipe is a pure function
of its settings and its sources, which it is given by role.
"""

from __future__ import annotations

from usual_clay.core.body.lying import FloatSettings
from usual_clay.core.body.settings import (
    BevelSettings,
    CloseSettings,
    CombineSettings,
    DrillSettings,
    JoinSettings,
    PadSettings,
    PartSettings,
    RoundSettings,
    ShellSettings,
    ThickenSettings,
    TrimSettings,
)
from usual_clay.core.build.blank import BlankSettings
from usual_clay.core.build.blend import BlendSettings
from usual_clay.core.build.combine import (
    BridgeSettings,
    CopySettings,
    PairSettings,
    TwinSettings,
)
from usual_clay.core.build.cover import CoverSettings
from usual_clay.core.build.fill import FillSettings, FlatSettings
from usual_clay.core.build.loft import LoftSettings
from usual_clay.core.build.net import NetSettings
from usual_clay.core.build.offset import OffsetSettings
from usual_clay.core.build.placed import (
    AcrossSettings,
    InSurfaceSettings,
    LaidSettings,
)
from usual_clay.core.build.rails import SweepSettings, TwoRailSettings
from usual_clay.core.build.straight import ExtrudeSettings, RuledSettings
from usual_clay.core.build.turned import RevolveSettings, TubeSettings
from usual_clay.core.check.measure import DistanceSettings, SizeSettings, WallSettings
from usual_clay.core.fit.curve.holds import HoldSettings
from usual_clay.core.fit.curve.sequence import TraceSettings
from usual_clay.core.fit.parameterize.region import CastSettings
from usual_clay.core.fit.patch.patch import PatchSettings
from usual_clay.core.picture.outline import OutlineSettings
from usual_clay.core.points.ball import BallSettings
from usual_clay.core.points.project import (
    OntoSettings,
)
from usual_clay.core.scan.section import SectionSettings
from usual_clay.core.scan.shapes import ShapeSettings
from usual_clay.core.spline.chain import ChainSettings
from usual_clay.core.spline.make import DrawnSettings
from usual_clay.job import bodies, from_curves, guides
from usual_clay.job.items import (
    Body,
    Curve,
    Dimension,
    Floating,
    Picture,
    PointList,
    Region,
    Scan,
    Shape,
    Surface,
)
from usual_clay.job.makers import (
    make_across,
    make_ball,
    make_bridge,
    make_cast,
    make_chain,
    make_copy,
    make_drawn,
    make_held,
    make_in_surface,
    make_laid,
    make_offset,
    make_onto,
    make_outline,
    make_pair,
    make_patch,
    make_section,
    make_shape,
    make_spline,
    make_twin,
    put_cast,
    put_curve,
    put_points,
    put_shape,
    put_spline,
    put_surface,
)
from usual_clay.job.measuring import make_distance, make_size, make_wall, put_dimension
from usual_clay.job.recipe_kind import Kind, RecipeError, Role
from usual_clay.job.searching import (
    CAST_SEARCH,
    PATCH_SEARCH,
    SPLINE_SEARCH,
    built_search,
)


def kind_of(name: str) -> Kind:
    """Return a row of the table.

    Raises
    ------
    RecipeError
    """
    if name not in KINDS:
        raise RecipeError(f"there is no way to make a {name!r}: there are {', '.join(KINDS)}")
    return KINDS[name]


def built(
    name: str,
    title: str,
    roles: tuple[Role, ...],
    settings: type,
    lay: from_curves.Lay,
    about: str,
    suffix: str,
    judged_by: str = "",
) -> Kind:
    """Return the row of a surface from curves, which is lean along a guide."""
    make = from_curves.lean(lay)
    return Kind(
        name, title, roles, settings, Surface, make, put_surface, built_search(make), about,
        suffix, judged_by, live=from_curves.live(lay),
    )  # fmt: skip


def of_body(
    kind: str, title: str, roles: tuple[Role, ...], settings: type, about: str, suffix: str
) -> Kind:
    """Return the row of a body, which the geometry kernel makes."""
    make = bodies.by_kernel(kind)
    return Kind(kind, title, roles, settings, Body, make, bodies.put_body, None, about, suffix)


CURVE, SCAN, BODY = (Curve,), (Scan,), (Body,)
# What can be measured.
MEASURED = (Curve, Surface, Body, Shape, Scan, Region, PointList)
FACES = Role("faces", (Surface, Body), "Face", most=0)
THING = Role("thing", (Surface, Body), "What is cut", most=0)
BY = Role("by", (Curve, Surface, Shape, Body), "Cut by", most=0)
OUTLINE = Role("outline", CURVE, "Outline", most=0)
UNTIL = Role("until", (Surface, Body, Shape), "Up to", least=0, most=2)
# A mirror plane that is picked.
PLANE = Role("plane", (Shape, PointList), "Plane, or points on it", least=0)
# What a surface from curves follows between them.
NEAR = Role("near", (Region, PointList), "Near the scan", least=0, sample=True)
# A loop of edges, and what a surface inside it heeds.
LOOP = (
    Role("edges", CURVE, "Edge", least=1, most=0),
    Role("beside", (Surface,), "Smooth to", least=0, most=0),
    Role("guides", CURVE, "Passes", least=0, most=0),
    Role("points", (PointList,), "Through points", least=0),
)
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
            "twin", "Twin", (Role("curve", CURVE), PLANE), TwinSettings, Curve, make_twin,
            put_curve, None, "A mirrored copy that follows its original", "{} twin", quick=True,
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
        built(
            "loft", "Loft",
            (Role("sections", CURVE, "Section", least=1, most=0),
             Role("rails", CURVE, "Rail", least=0, most=0),
             Role("beside", (Surface,), "Smooth to", least=0, most=2),
             Role("tips", (PointList,), "Tip", least=0, most=2), NEAR),
            LoftSettings, guides.loft,
            "A lean surface through sections, in order", "Loft 1", "near",
        ),
        built(
            "net", "Net",
            (Role("along", CURVE, "Along", least=2, most=0),
             Role("across", CURVE, "Across", least=2, most=0), NEAR),
            NetSettings, guides.net,
            "A lean surface through two families of crossing curves", "Net 1", "near",
        ),
        built(
            "two-rail", "Two-rail",
            (Role("rails", CURVE, "Rail", least=2, most=2),
             Role("profiles", CURVE, "Profile", least=1, most=0), NEAR),
            TwoRailSettings, guides.two_rail,
            "Profiles carried along two rails", "Two-rail 1", "near",
        ),
        built(
            "sweep", "Sweep",
            (Role("path", CURVE), Role("profiles", CURVE, "Profile", least=1, most=0), NEAR),
            SweepSettings, guides.sweep,
            "Profiles carried along a path", "Sweep 1", "near",
        ),
        built(
            "guided revolve", "Guided revolve",
            (Role("profile", CURVE), Role("axis", (Curve, Shape)), Role("rail", CURVE, least=0),
             NEAR),
            RevolveSettings, guides.revolve,
            "A profile turned about an axis while its end follows a rail", "Revolve 1", "near",
        ),
        built(
            "tube", "Tube", (Role("path", CURVE), Role("profile", CURVE, least=0)), TubeSettings,
            guides.tube,
            "A round tube, or one of a closed profile, along a path", "{} tube",
        ),
        built(
            "fill", "Fill", (*LOOP, NEAR),
            FillSettings, guides.fill,
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
            "extrude", "Extrude",
            (Role("curve", CURVE), Role("direction", CURVE, least=0),
             Role("until", (Surface, Scan, Shape), "As far as", least=0)),
            ExtrudeSettings, Surface, from_curves.make_extrude, put_surface, None,
            "A curve pushed along a direction", "{} extruded", quick=True,
        ),
        Kind(
            "ruled", "Ruled", (Role("edges", CURVE, "Edge", least=2, most=2),), RuledSettings,
            Surface, from_curves.make_ruled, put_surface, None,
            "Straight lines between two edges", "Ruled 1", quick=True,
        ),
        Kind(
            "flat", "Flat", (Role("edges", CURVE, "Edge", least=1, most=0),), FlatSettings, Surface,
            from_curves.make_flat, put_surface, None, "A plane face inside flat curves", "Flat 1",
        ),
        Kind(
            "blank", "Blank",
            (Role("references", (Scan, PointList, Curve, Surface), "Sized to", 0, 0),),
            BlankSettings, Surface, from_curves.lean(guides.blank), put_surface, None,
            "A start shape to be shaped by hand", "Blank 1",
        ),
        Kind(
            "surface twin", "Twin of a surface", (Role("surface", (Surface,)), PLANE),
            TwinSettings, Surface, from_curves.make_surface_twin, put_surface, None,
            "A mirrored copy of a surface that follows its original", "{} twin", quick=True,
        ),
        of_body("join", "Join", (FACES,), JoinSettings,
                "Faces joined to a shell, and to a solid where it is closed", "Body 1"),
        of_body("close", "Close", (FACES,), CloseSettings,
                "Openings closed by planes or calm surfaces", "{} closed"),
        of_body("cover", "Cover", LOOP, CoverSettings,
                "One trimmed surface inside a loop of any number of edges", "Cover 1"),
        of_body("trim", "Trim", (THING, BY), TrimSettings,
                "A surface or a body cut, and the sides kept that are clicked", "{} trimmed"),
        of_body("split", "Split in parts", (THING, BY), PartSettings,
                "A surface or a body cut, and both sides kept", "{} split"),
        of_body("pad", "Pad", (OUTLINE, UNTIL, Role("body", BODY, "Added to", least=0)),
                PadSettings, "An outline pushed along: stock of its own, or added to a body",
                "Pad 1"),
        of_body("cut", "Cut", (Role("body", BODY, "Taken from"), OUTLINE, UNTIL), PadSettings,
                "An outline pushed along and taken away from a body", "{} cut"),
        of_body("drill", "Drill",
                (Role("body", BODY), Role("shapes", (Shape,), "Shape", most=0)),
                DrillSettings,
                "Holes of recognised cylinders, seats of spheres, a slot between planes",
                "{} drilled"),
        of_body("unite", "Unite",
                (Role("body", BODY), Role("others", BODY, "With", most=0)), CombineSettings,
                "Solids made one", "{} united"),
        of_body("take away", "Take away",
                (Role("body", BODY), Role("others", (Body, Surface), "Taken away", most=0)),
                CombineSettings, "Solids taken away, or one side of surfaces", "{} less"),
        of_body("intersect", "Intersect",
                (Role("body", BODY), Role("others", (Body, Surface), "With", most=0)),
                CombineSettings, "What solids have in common", "{} common"),
        of_body("mirror and unite", "Mirror and unite", (Role("body", BODY), PLANE), TwinSettings,
                "A body and its mirror image made one", "{} whole"),
        of_body("shell", "Shell", (Role("body", BODY),), ShellSettings,
                "A body hollowed to a wall", "{} hollow"),
        of_body("thicken", "Thicken", (Role("surface", (Surface, Body)),), ThickenSettings,
                "A surface given a thickness", "{} thick"),
        of_body("round", "Round", (Role("body", BODY),), RoundSettings,
                "Edges rounded, by radius or by width", "{} rounded"),
        of_body("bevel", "Bevel", (Role("body", BODY),), BevelSettings, "Edges bevelled",
                "{} bevelled"),
        Kind(
            "afloat", "Float", (Role("body", BODY), Role("marks", CURVE, "Mark", least=0, most=0)),
            FloatSettings, Floating, bodies.make_afloat, bodies.put_afloat, None,
            "How a body floats, lies and rights itself", "{} afloat",
        ),
        Kind(
            "distance", "Distance", (Role("one", MEASURED), Role("other", MEASURED)),
            DistanceSettings, Dimension, make_distance, put_dimension, None,
            "How far two things are apart, or how they are turned", "{} apart", quick=True,
        ),
        Kind(
            "size", "Size", (Role("thing", MEASURED),), SizeSettings, Dimension, make_size,
            put_dimension, None, "Length, smallest radius, area, or reach along an axis", "{} size",
            quick=True,
        ),
        Kind(
            "wall", "Wall", (Role("thing", (Body, Scan)),), WallSettings, Dimension, make_wall,
            put_dimension, None, "How thick a wall is, straight through", "{} wall",
        ),
    )
}  # fmt: skip
