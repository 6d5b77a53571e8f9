"""What there is to see: a job's items as layers, made once and kept while they stay the same."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
from PySide6.QtCore import QObject, Signal
from vtkmodules.vtkCommonDataModel import vtkPolyData

from usual_clay.bench.canvas import Target
from usual_clay.bench.item_views import view_of
from usual_clay.bench.session import Session
from usual_clay.bench.stage import colours
from usual_clay.bench.stage.bodies import Bodies
from usual_clay.bench.stage.judging import JUDGINGS, spots_drawn
from usual_clay.bench.stage.kept import drop, same
from usual_clay.bench.stage.models import line_data, paint, triangle_data, with_vertices
from usual_clay.bench.stage.portrait import Grid, Portrait, followed, make_portrait
from usual_clay.bench.stage.reference_layers import curve_layer, picture_layer, shape_layers
from usual_clay.bench.stage.scan_model import ScanModel, known_of, prepare
from usual_clay.bench.stage.sights import Sights
from usual_clay.bench.stage.view import SCAN_BACK, Layer
from usual_clay.bench.theme.theme import now, rgb
from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.check.comb import Comb, comb_of
from usual_clay.core.scan.closest import Hit, MeshTree
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.job.items import (
    Curve,
    Item,
    ItemId,
    Picture,
    PointList,
    Region,
    Scan,
    Shape,
    Surface,
)
from usual_clay.job.job import is_of_another, measured_points

# Triangles are no farther from their surface than this share of the tolerance.
CHORD = 0.2


@dataclass(frozen=True)
class Shown:
    """What the user has switched on."""

    scan: bool = True
    pictures: bool = True
    points: bool = True
    curves: bool = True
    surfaces: bool = True
    bodies: bool = True
    net: bool = True
    colours: bool = True
    range: float = 3.0
    on_scan: bool = False
    # How surfaces are judged, "" for by their deviation or not at all.
    judging: str = ""


class Scene(QObject):
    """Layers for the views, and rays into what they show.

    Signals
    -------
    ready : something that was computed in the background can be shown
    """

    ready = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.shown = Shown()
        # How surfaces and bodies are judged in the smaller view; None for as in the large one.
        self.other_look: str | None = None
        self._portraits: dict[ItemId, tuple[tuple, Portrait]] = {}
        self._layers: dict[str, tuple[tuple, Layer]] = {}
        # The same of a view that is looked at otherwise.
        self._layers_apart: dict[str, tuple[tuple, Layer]] = {}
        self._meshes: dict[ItemId, tuple[TriangleMesh, vtkPolyData]] = {}
        self._asked: dict[str, tuple] = {}
        self.bodies, self.sights = Bodies(self), Sights(self)
        session.replaced.connect(self.forget)

    @property
    def looks(self) -> tuple[str, str]:
        """How surfaces and bodies are judged in the large view and in the smaller one."""
        own = self.shown.judging
        return own, own if self.other_look is None else self.other_look

    @contextmanager
    def seen_as(self, judging: str | None) -> Iterator[None]:
        """Let what is done meanwhile see surfaces and bodies judged otherwise; None: as they are.

        What was made for either look is kept beside that of the other.
        """
        if judging is None:
            yield
            return
        shown, layers = self.shown, self._layers
        self.shown, self._layers = replace(shown, judging=judging), self._layers_apart
        try:
            yield
        finally:
            self._layers_apart = self._layers
            self.shown, self._layers = shown, layers

    def layers(self) -> dict[str, Layer]:
        """Return the layers of the job as it is shown."""
        result: dict[str, Layer] = {}
        for item in self.seen():
            result |= view_of(item).layers(self, item)
        self._layers = {key: value for key, value in self._layers.items() if key in result}
        return result

    def seen(self) -> list[Item]:
        """Return the items that are visible, and of whose layer the switch is on."""
        found = []
        for item in self.session.shown.items.values():
            layer = view_of(item).layer
            if item.visible and (not layer or getattr(self.shown, layer)):
                found.append(item)
        return found

    def in_hand(self) -> list[Curve]:
        """Return the curves that a hand changes just now.

        They are painted over the picture, which then need not be rendered at each move.
        """
        session = self.session
        if session.hand.dragging is None or not session.is_proposing:
            return []
        kept = session.job
        return [
            curve
            for curve in session.shown.all(Curve)
            if curve.visible and kept.items.get(curve.id) is not curve
        ]

    def ink_of(self, curve: Curve) -> str:
        """Return the colour that a curve is drawn in."""
        chosen = curve.id == self.session.choice.item
        return now().chosen if chosen else curve.colour or now().ink

    def curve_layers(self, curve: Curve) -> dict[str, Layer]:
        """Return a curve as a line; one that a hand changes is painted over the picture."""
        if any(curve.id == other.id for other in self.in_hand()):
            return {}
        geometry, ink = curve.geometry, self.ink_of(curve)
        return {
            curve.id: self.cached(curve.id, (geometry, ink), lambda: curve_layer(geometry, ink))
        }

    def comb(self, curve: Curve) -> Comb:
        """Return a curve's comb; the last few are kept."""
        return comb_of(curve.geometry)

    def picture_layers(self, picture: Picture) -> dict[str, Layer]:
        """Return a picture on its plane."""
        made_of = (picture.data, picture.placement, picture.look)
        return {picture.id: self.cached(picture.id, made_of, lambda: picture_layer(picture))}

    def shape_layers(self, shape: Shape) -> dict[str, Layer]:
        """Return a simple shape, and the lines on it."""
        chosen = shape.id == self.session.choice.item
        colour = shape.colour or now().references
        result = {}
        for number, key in enumerate((shape.id, f"{shape.id} lines")):

            def make(number: int = number) -> Layer:
                return shape_layers(shape.geometry, chosen, colour)[number]

            result[key] = self.cached(key, (shape.geometry, chosen, colour), make)
        return result

    def cached(self, key: str, made_of: tuple, make: Callable[[], Layer]) -> Layer:
        """Return the layer kept under a key while what it was made of stays the same."""
        known, made_of = self._layers.get(key), (*made_of, now())
        if known is None or not same(known[0], made_of):
            known = (made_of, make())
            self._layers[key] = known
        return known[1]

    def forget(self) -> None:
        """Let go of everything that was made."""
        for kept in (self._portraits, self._layers, self._layers_apart, self._meshes):
            kept.clear()
        self.bodies.forget()
        self.sights.forget()

    def let_go(self) -> None:
        """Let go of what was made of items that are gone, and of what is looked at no more."""
        ids = self.session.shown.items
        drop(self._portraits, ids)
        drop(self._meshes, ids)
        self.bodies.keep(ids)
        seen = {item.id for item in self.seen()} if any(self.looks) else ()
        self.sights.keep(ids, seen)

    # ---- scans ---------------------------------------------------------------------------

    def model(self, scan: Scan) -> ScanModel | None:
        """Return a scan's model; where it is not there yet, it is made in the background."""
        mesh, purpose = scan.mesh, f"model {id(scan.mesh)}"
        if (known := known_of(mesh)) is None and self.session.work.find(scan.id, purpose) is None:
            self.session.work.start(
                scan.id, purpose, "Preparing the scan",
                lambda *_: prepare(mesh), lambda _: self.ready.emit(),
            )  # fmt: skip
        return known

    def scan_tree(self, scan: Scan) -> MeshTree | None:
        """Return the tree that rays meet a scan by; None while it is being made."""
        model = self.model(scan)
        return None if model is None else model.tree

    def scan_layers(self, scan: Scan) -> dict[str, Layer]:
        """Return a scan with its regions, as they are chosen."""
        job, chosen = self.session.shown, self.session.choice.item
        regions = [r for r in job.all(Region) if r.scan == scan.id and r.visible]
        lit = next((r for r in regions if r.id == chosen), None)
        model = self.model(scan)
        light = None if model is None else model.light
        judged = self._judged_on(scan)
        tolerance = job.tolerance
        made_of = (
            scan.mesh,
            light,
            *(part for surface, where in judged for part in (surface.signed, where)),
            (tolerance, self.shown.range),
            scan.colours,
            None if lit is None else lit.vertices,
            tuple((id(r.vertices), r.colour) for r in regions),
        )

        def make() -> Layer:
            worn, plain = now(), rgb(now().scan)
            tint = np.tile(plain, (len(scan.mesh.vertices), 1))
            if scan.colours is not None:
                # Paler than seen, so that what is chosen and measured still stands out.
                tint = 0.6 * scan.colours / 255 + 0.4 * tint
            for region in regions:
                own = rgb(region.colour) if region.colour else None
                faint = rgb(worn.region_faint) if own is None else 0.55 * own + 0.45 * plain
                tint[region.vertices] = faint
            if lit is not None:
                tint[lit.vertices] = rgb(worn.region)
            full = tolerance.deviation * self.shown.range
            for surface, where in judged:
                assert surface.signed is not None
                signed = surface.signed
                tint[where] = colours.deviation_colours(signed, tolerance.deviation, full)
            tint = colours.as_bytes(tint)
            data = self._mesh_data(scan)
            paint(data, tint)
            coarse = None
            if light is not None:
                vertices, triangles, nearest = light
                normals = scan.mesh.vertex_normals[nearest]
                coarse = triangle_data(vertices, triangles, normals)
                paint(coarse, tint[nearest])
            return Layer(data, coarse, back=SCAN_BACK)

        return {scan.id: self.cached(scan.id, made_of, make)}

    def _judged_on(self, scan: Scan) -> list[tuple[Surface, Ints]]:
        """Return the visible surfaces that a scan shows the deviation of, and its vertices."""
        if not (self.shown.on_scan and self.shown.colours):
            return []
        found = []
        for surface in self.session.shown.all(Surface):
            region = self.session.shown.region_of(surface)
            if not surface.visible or surface.signed is None or region is None:
                continue
            own = region.scan == scan.id and not is_of_another(scan, region.vertices)
            if own and len(region.vertices) == len(surface.signed):
                found.append((surface, region.vertices))
        return found

    def _mesh_data(self, scan: Scan) -> vtkPolyData:
        """Return a scan's triangles, kept while its mesh is the same."""
        mesh, known = scan.mesh, self._meshes.get(scan.id)
        if known is None or known[0] is not mesh:
            known = (mesh, triangle_data(mesh.vertices, mesh.triangles, mesh.vertex_normals))
            self._meshes[scan.id] = known
        return known[1]

    # ---- points --------------------------------------------------------------------------

    def points_layers(self, points: PointList) -> dict[str, Layer]:
        """Return a run of points as a line."""
        if len(points.kept) < 2:
            return {}
        chosen = points.id == self.session.choice.item

        def make() -> Layer:
            run = points.points[points.kept]
            ring = np.concatenate([run, run[:1]]) if points.closed else run
            own = points.colour or now().references
            return Layer(line_data([ring]), line=now().chosen if chosen else own)

        made_of = (points.points, points.out, points.closed, points.colour, chosen)
        return {points.id: self.cached(points.id, made_of, make)}

    # ---- surfaces ------------------------------------------------------------------------

    def portrait(self, surface: Surface) -> Portrait | None:
        """Return a surface's portrait, the last one while a newer is being made."""
        measured = self.session.shown.measured(surface)
        wanted = (surface.geometry, _what_judges(measured), self._chord())
        known = self._portraits.get(surface.id)
        if known is None or not same(known[0], wanted):
            if known is not None and same(known[0][1:], wanted[1:]):
                made = followed(known[1], surface.geometry)
                if made is not None:
                    known = self._portraits[surface.id] = (wanted, made)
            if known is None or not same(known[0], wanted):
                self._ask_portrait(surface, measured, wanted)
        return None if known is None else known[1]

    def _chord(self) -> float:
        """Return how near triangles are to their surface: a fifth of the tolerance, or less."""
        chord = CHORD * self.session.shown.tolerance.deviation
        # A little more or less is no reason for other triangles.
        return float(2.0 ** np.floor(np.log2(chord)))

    def _ask_portrait(
        self, surface: Surface, measured: Region | PointList | None, wanted: tuple
    ) -> None:
        work, job = self.session.work, self.session.shown
        under_way = work.find(surface.id, "portrait") is not None
        if under_way and same(self._asked.get(surface.id), wanted):
            return
        self._asked[surface.id] = wanted

        def done(made: Portrait) -> None:
            self._portraits[surface.id] = (wanted, made)
            self.ready.emit()

        def make(*_: object) -> Portrait:
            points = None if measured is None else measured_points(job, measured)
            return make_portrait(surface.geometry, wanted[2], points, surface.signed)

        work.start(surface.id, "portrait", "", make, done)

    def surface_tree(self, surface: Surface) -> MeshTree | None:
        """Return the tree that rays meet a surface by; None while it is being made."""
        portrait = self.portrait(surface)
        return None if portrait is None else portrait.tree

    def surface_layers(self, surface: Surface) -> dict[str, Layer]:
        """Return a surface in its colours, and its isocurves."""
        portrait = self.portrait(surface)
        if portrait is None:
            return {}
        result = {surface.id: self._surface_layer(surface, portrait)}
        if (self.shown.net or self.shown.colours) and not self.shown.judging:
            result[f"{surface.id} lines"] = self._line_layer(surface, portrait)
        return result

    def _surface_layer(self, surface: Surface, portrait: Portrait) -> Layer:
        tolerance, chosen = self.session.shown.tolerance, surface.id == self.session.choice.item
        if self.shown.judging:
            return self._judged_layer(surface, portrait)
        shows = self.shown.colours and not self.shown.on_scan
        made_of = (portrait, surface.signed, shows, chosen, tolerance, self.shown.range)

        def make() -> Layer:
            spots, signed = portrait.spots, surface.signed
            tint = np.array(rgb(now().surfaces_chosen if chosen else now().surfaces))
            drawn = None
            if shows and spots is not None and signed is not None and len(signed) == spots.points:
                full = tolerance.deviation * self.shown.range
                drawn = colours.spot_colours(spots, signed, tolerance.deviation, full)
                tint = np.ones(3)
            data, light = _drawn(portrait, shows, tint)
            return Layer(data, light, gloss=0.0 if shows else 0.25, spots=drawn)

        return self.cached(surface.id, made_of, make)

    def _judged_layer(self, surface: Surface, portrait: Portrait) -> Layer:
        """Return a surface as it is judged just now."""
        name = self.shown.judging
        eye = self.sights.eye if JUDGINGS[name].moves else None
        scale, lines = self.sights.scale(), self.sights.scaling.contours
        known = self.sights.bends(surface)

        def make() -> Layer:
            data, light = _drawn(portrait, True, np.ones(3))
            return Layer(data, light, spots=spots_drawn(name, known, self.sights.eye, scale, lines))

        return self.cached(surface.id, (portrait, name, eye, scale, lines), make)

    def _line_layer(self, surface: Surface, portrait: Portrait) -> Layer:
        key = f"{surface.id} lines"
        return self.cached(
            key, (portrait,), lambda: Layer(line_data(portrait.lines), line=now().isocurves)
        )

    # ---- under the cursor ----------------------------------------------------------------

    def target(self, origin: Floats, direction: Floats) -> Target | None:
        """Return the nearest visible item that a ray meets."""
        found: list[Target] = []
        for item in self.seen():
            solid = view_of(item).solid
            tree = None if solid is None else solid(self, item)
            hit = None if tree is None else tree.first_hit(origin, direction)
            if hit is None:
                continue
            # As drawn: what is made is in front of a reference that it nearly touches.
            nearer = 1.0 if view_of(item).role == "references" else 0.998
            found.append(Target(item.id, Hit(hit.point, hit.triangle, nearer * hit.distance)))
        return min(found, key=lambda target: target.hit.distance) if found else None

    def why_no_scan(self, what: str) -> str:
        """Return why there is no scan under a click of the tool named, and what to do."""
        scans = [s for s in self.session.shown.all(Scan) if s.visible and self.shown.scan]
        if not scans:
            return f"No scan is shown: switch Scan on to use {what}."
        if any(self.model(scan) is None for scan in scans):
            return "The scan is still being prepared: try again in a moment."
        return f"There is no scan under {what}: click on the scan."

    def scan_under(self, origin: Floats, direction: Floats) -> tuple[Scan, Hit] | None:
        """Return the visible scan that a ray meets first, whatever surface is before it."""
        found = []
        for scan in self.session.shown.all(Scan):
            model = self.model(scan) if scan.visible and self.shown.scan else None
            hit = model.tree.first_hit(origin, direction) if model is not None else None
            if hit is not None:
                found.append((scan, hit))
        return min(found, key=lambda pair: pair[1].distance) if found else None

    def outline(self) -> Floats | None:
        """Return points that stand for the extent of what is shown, (n, 3); None for nothing."""
        parts = []
        for item in self.seen():
            extent = view_of(item).extent
            if extent is not None:
                parts.append(extent(item))
        return np.concatenate(parts) if parts else None


def _drawn(
    portrait: Portrait, in_picture: bool, tint: Floats
) -> tuple[vtkPolyData, vtkPolyData | None]:
    """Return a surface's triangles in one colour, with places in a picture on it where there is
    one, and what stands for them while the view moves."""

    frames = _frames(portrait.grid, in_picture, colours.as_bytes(tint).tobytes())
    whole, *light = (
        with_vertices(frame, portrait.vertices[own], portrait.normals[own]) for own, frame in frames
    )
    return whole, light[0] if light else None


# While a hand drags only the vertices move.
@lru_cache(maxsize=2)
def _frames(grid: Grid, in_picture: bool, tint: bytes) -> list[tuple[Ints | slice, vtkPolyData]]:
    """Return what surfaces drawn on one grid have in common, and their stand-in where there is one:
    of which vertices each is, and its triangles."""
    frames: list[tuple[Ints | slice, vtkPolyData]] = []
    parts: list[tuple[Ints | slice, Ints]] = [(slice(None), grid.triangles)]
    if grid.stand_in is not None:
        parts.append(grid.stand_in)
    for own, triangles in parts:
        places = grid.places[own]
        nowhere = np.zeros((len(places), 3))
        data = triangle_data(nowhere, triangles, None, places if in_picture else None)
        paint(data, np.tile(np.frombuffer(tint, dtype=np.uint8), (len(places), 1)))
        frames.append((own, data))
    return frames


def _what_judges(measured: Region | PointList | None) -> object:
    """Return what a portrait is made anew for when it is another."""
    return measured.vertices if isinstance(measured, Region) else measured
