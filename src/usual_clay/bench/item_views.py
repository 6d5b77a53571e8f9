"""How the bench shows each kind of item: ONE ROW for each.

The functions of a row are given the scene, which keeps layers while what they were made of stays
the same.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.picture.placement import corners
from usual_clay.core.scan.shape_mesh import shape_mesh
from usual_clay.core.spline.closest import curve_foot_points, foot_points
from usual_clay.core.spline.surface import surface_grid
from usual_clay.core.spline.tessellate import curve_points_shown
from usual_clay.job.items import Body, Curve, Item, Picture, Scan, Surface
from usual_clay.job.kinds import item_kind
from usual_clay.job.recipes import KINDS

# Points that stand for the extent of a large scan.
EXTENT = 4000
CURVE_HINT = (
    "<b>Drag</b> a point; <b>Shift</b> takes several. While dragging, <b>X Y Z</b> hold it to an"
    " axis, <b>N</b> square to the curve, <b>L</b> to its leg, <b>F</b> flat; digits say how far."
)
PICTURE_HINT = (
    "<b>Drag</b> the picture to move it, a corner to scale it, the stem's ring to turn it."
    " <b>L</b> locks it."
)
FLOAT_HINT = (
    "Set its material and weights on the card; the water lies where they let it."
    " <b>Drag</b> a paddle to lift it by hand. <b>Esc</b> lets go of it."
)
DIMENSION_HINT = (
    "It follows what it measures, and is in the report. <b>Del</b> removes it, <b>Esc</b> lets go"
    " of it."
)
BODY_HINT = "A click in the card's list of gaps flies there. <b>Esc</b> lets go of it."
SURFACE_HINT = (
    "Drag along the front in Balance to spend more or fewer control points, or <b>drag</b> one of"
    " them on the stage. <b>Enter</b> keeps the surface, <b>Esc</b> lets go of it."
)


@dataclass(frozen=True)
class ItemView:
    """How one kind of item is shown.

    Attributes
    ----------
    group : str
        Under which heading of the Shelf it stands.
    card : (str, str)
        The card of a chosen one: its file in `cards/` and its class.
    layers : callable
        ``layers(scene, item)`` gives what is drawn of a visible one.
    solid : callable or None
        ``solid(scene, item)``: the search tree that rays meet it by, or None.
    extent : callable or None
        Points that stand for its extent, (n, 3).
    figure : callable or None
        What the Shelf says of its size, and in which unit that is.
    role : {"references", "surfaces", "bodies", "ink"}
        Its colour in the theme.
    hollow : bool
        Whether its swatch is an outline.
    may_colour : bool
        Whether the user may give it a colour of its own.
    layer : str
        The switch of the stage that shows it; empty where it has none.
    hint : str
        What the hint line says while a free one is chosen.
    away : callable or None
        ``away(scene, item, place)``: how far a place is from it, mm; None while not known.
    """

    group: str
    card: tuple[str, str]
    layers: Callable[[Any, Any], Mapping[str, Any]]
    solid: Callable[[Any, Any], Any] | None = None
    extent: Callable[[Any], Floats] | None = None
    figure: Callable[[Any], tuple[str, str]] | None = None
    role: str = "references"
    hollow: bool = False
    may_colour: bool = True
    layer: str = ""
    hint: str = ""
    away: Callable[[Any, Any, Floats], float | None] | None = None


def short(count: int) -> str:
    """Return a count for a narrow place."""
    return f"{count / 1000:.0f} k" if count >= 10_000 else str(count)


def _no_layers(_scene: Any, _item: Item) -> Mapping[str, Any]:
    """Return nothing: what holds it draws it."""
    return {}


def _extent_of_scan(scan: Scan) -> Floats:
    vertices = scan.mesh.vertices
    return vertices[:: max(1, len(vertices) // EXTENT)]


def _extent_of_surface(surface: Surface) -> Floats:
    steps = np.linspace(0, 1, 30)
    return surface_grid(surface.geometry, steps, steps).reshape(-1, 3)


def _size_of_picture(picture: Picture) -> tuple[str, str]:
    placement = picture.placement
    return f"{placement.width:.0f} × {placement.height:.0f}", "width and height in mm"


def _away_from_scan(scene: Any, scan: Scan, place: Floats) -> float | None:
    tree = scene.scan_tree(scan)
    return None if tree is None else float(tree.nearest(place[None])[0][0])


def _away_from_curve(_scene: Any, curve: Curve, place: Floats) -> float:
    return float(curve_foot_points(curve.geometry, place[None])[2][0])


def _away_from_surface(_scene: Any, surface: Surface, place: Floats) -> float:
    return abs(float(foot_points(surface.geometry, place[None]).signed[0]))


def _cost(item: Curve | Surface) -> tuple[str, str]:
    return str(item.control_points), "control points"


def _size_of_body(body: Body) -> tuple[str, str]:
    shape = body.shape
    if shape.is_solid:
        return f"{shape.volume / 1000:.3g}", "cm³ of a solid"
    return "open", f"an open shell: {shape.open_edges} edges are open"


ITEM_VIEWS: dict[str, ItemView] = {
    "scan": ItemView(
        "References", ("scan", "ScanCard"), lambda scene, scan: scene.scan_layers(scan),
        lambda scene, scan: scene.scan_tree(scan), _extent_of_scan,
        lambda scan: (short(len(scan.mesh.triangles)), "triangles"), layer="scan",
        away=_away_from_scan,
    ),
    "region": ItemView(
        "References", ("region", "RegionCard"), _no_layers,
        figure=lambda region: (short(len(region.vertices)), "points"), hollow=True,
    ),
    "picture": ItemView(
        "References", ("picture", "PictureCard"),
        lambda scene, picture: scene.picture_layers(picture),
        extent=lambda picture: corners(picture.placement), figure=_size_of_picture,
        may_colour=False, layer="pictures", hint=PICTURE_HINT,
    ),
    "points": ItemView(
        "References", ("points", "PointsCard"),
        lambda scene, points: scene.points_layers(points), extent=lambda points: points.points,
        figure=lambda points: (short(len(points.kept)), "points, without those taken out"),
        layer="points",
    ),
    "shape": ItemView(
        "References", ("shape", "ShapeCard"), lambda scene, shape: scene.shape_layers(shape),
        extent=lambda shape: shape_mesh(shape.geometry)[0], hollow=True,
    ),
    "curve": ItemView(
        "Curves", ("curve", "CurveCard"), lambda scene, curve: scene.curve_layers(curve),
        extent=lambda curve: curve_points_shown(curve.geometry), figure=_cost, role="ink",
        layer="curves",
        hint=CURVE_HINT, away=_away_from_curve,
    ),
    "surface": ItemView(
        "Surfaces", ("cast", "CastCard"), lambda scene, surface: scene.surface_layers(surface),
        lambda scene, surface: scene.surface_tree(surface), _extent_of_surface, _cost,
        role="surfaces", layer="surfaces", hint=SURFACE_HINT, away=_away_from_surface,
    ),
    "body": ItemView(
        "Bodies", ("body", "BodyCard"), lambda scene, body: scene.bodies.layers(body),
        lambda scene, body: scene.bodies.tree(body), lambda body: body.shape.box,
        _size_of_body, role="bodies", layer="bodies", hint=BODY_HINT,
    ),
    "accepted": ItemView(
        "References", ("item", "ItemCard"), _no_layers,
        figure=lambda item: (f"{item.reach:.1f}", "mm it reaches"), hollow=True,
    ),
    "dimension": ItemView(
        "Dimensions", ("recipe", "RecipeCard"), _no_layers,
        figure=lambda item: ("…", "being measured") if item.figure is None else
        (item.figure.words, "as it is now"), hollow=True, hint=DIMENSION_HINT,
    ),
    "afloat": ItemView(
        "Bodies", ("floating", "FloatingCard"), lambda scene, item: scene.bodies.water(item),
        figure=lambda item: ("…", "draft in mm") if item.lying is None else
        (f"{item.lying.afloat.draft:.1f}", "draft in mm"), hollow=True, layer="bodies",
        hint=FLOAT_HINT,
    ),
}  # fmt: skip
# The card of a recipe's result that has a better one than its settings and roles make; of all
# others the recipe card is shown.
RECIPE_CARDS: dict[str, tuple[str, str]] = {
    "cast": ("cast", "CastCard"),
    "patch": ("cast", "CastCard"),
    "ball": ("points", "PointsCard"),
    "onto": ("points", "PointsCard"),
    "section": ("points", "PointsCard"),
    "outline": ("points", "PointsCard"),
    "shape": ("shape", "ShapeCard"),
    **dict.fromkeys(
        ("spline", "drawn", "held", "twin", "copy", "bridge", "pair", "chain", "offset", "across",
         "laid", "in surface"),
        ("curve", "CurveCard"),
    ),
    "afloat": ("floating", "FloatingCard"),
    **dict.fromkeys(
        (kind.name for kind in KINDS.values() if kind.result is Body), ("body", "BodyCard")
    ),
}  # fmt: skip


def view_of(item: Item) -> ItemView:
    """Return the row of an item."""
    return ITEM_VIEWS[item_kind(item).name]
