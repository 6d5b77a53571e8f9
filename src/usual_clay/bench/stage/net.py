"""The net of a surface: control points as open rings on dashed legs; and what it was before."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from pyqtgraph.functions import arrayToQPolygonF
from PySide6.QtCore import Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPixmap

from usual_clay.bench.stage.curve_overlay import draw_ghost
from usual_clay.bench.stage.rings import draw_rings
from usual_clay.bench.stage.view import View
from usual_clay.bench.theme.theme import now
from usual_clay.core.arrays import Bools, Floats
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.surface import BSplineSurface, isocurve

# Isocurves that are shown of a surface as it was.
GHOST_LINES = (0.0, 0.25, 0.5, 0.75, 1.0)


class NetPainter:
    """Paints a net; what stays while a hand moves some of its points is painted once."""

    def __init__(self) -> None:
        self._still: tuple[tuple[object, ...], QPixmap] = ((), QPixmap())

    def draw(
        self,
        painter: QPainter,
        view: View,
        surface: BSplineSurface,
        chosen: frozenset[int],
        before: BSplineSurface | None,
    ) -> None:
        """Draw a surface's net, chosen points filled, over what it was before, if it was another.

        Parameters
        ----------
        before : BSplineSurface or None
            The surface as it lies in the job.
        """
        if before is None or before is surface:
            _draw_part(painter, view, surface, np.ones(surface.counts, dtype=bool))
        elif before.counts != surface.counts:
            _draw_ghosts(painter, view, before)
            _draw_part(painter, view, surface, np.ones(surface.counts, dtype=bool))
        else:
            moved = (surface.points != before.points).any(axis=2)
            painter.drawPixmap(0, 0, self._still_part(view, before, moved))
            _draw_part(painter, view, surface, moved)
        rings = [index for index in sorted(chosen) if index < surface.points[..., 0].size]
        if rings:
            places = view.project(surface.points.reshape(-1, 3))[:, :2]
            cap, width = Qt.PenCapStyle.RoundCap, 2 * _radius(places, surface) + 3.9
            painter.setPen(QPen(QColor(now().chosen), width, Qt.PenStyle.SolidLine, cap))
            painter.drawPoints(arrayToQPolygonF(*places[rings].T))

    def _still_part(self, view: View, before: BSplineSurface, moved: Bools) -> QPixmap:
        made_of = (before, view.camera, view.size, moved.tobytes(), now())
        if len(self._still[0]) != len(made_of) or not all(
            a is b or (isinstance(a, bytes | tuple) and a == b)
            for a, b in zip(made_of, self._still[0], strict=True)
        ):
            picture = QPixmap(*view.size)
            picture.fill(Qt.GlobalColor.transparent)
            painter = QPainter(picture)
            _draw_ghosts(painter, view, before)
            _draw_part(painter, view, before, ~moved, *_whole(~moved))
            painter.end()
            self._still = (made_of, picture)
        return self._still[1]


def _draw_part(
    painter: QPainter,
    view: View,
    surface: BSplineSurface,
    points: Bools,
    rows: Bools | None = None,
    columns: Bools | None = None,
) -> None:
    """Draw some points as rings, and whole rows and columns: those that have such points."""
    if rows is None or columns is None:
        rows, columns = np.asarray(points.any(axis=1)), np.asarray(points.any(axis=0))
    nu, nv = surface.counts
    flat = view.project(surface.points.reshape(-1, 3))[:, :2]
    place = flat.reshape(nu, nv, 2)
    ink = QColor(now().ink)
    ink.setAlpha(105)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, nu * nv <= 900)
    painter.setPen(QPen(ink, 0.9, Qt.PenStyle.DashLine))
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for line in (*place[rows], *place.transpose(1, 0, 2)[columns]):
        painter.drawPolyline(arrayToQPolygonF(*line.T))
    draw_rings(painter, flat[points.ravel()], _radius(flat, surface))


def _whole(points: Bools) -> tuple[Bools, Bools]:
    """Return which rows and columns have all of their points among some."""
    return np.asarray(points.all(axis=1)), np.asarray(points.all(axis=0))


def _radius(flat: Floats, surface: BSplineSurface) -> float:
    net = flat.reshape(*surface.counts, 2)
    # Seen aslant, points are the nearer one way.
    leg = min(np.median(np.linalg.norm(np.diff(net, axis=k), axis=2)) for k in range(2))
    return float(np.clip(0.2 * leg, 1.4, 3.4))


def _draw_ghosts(painter: QPainter, view: View, surface: BSplineSurface) -> None:
    for line in _ghost_lines(surface):
        draw_ghost(painter, view, line)


@lru_cache(maxsize=2)
def _ghost_lines(surface: BSplineSurface) -> list[BSplineCurve]:
    return [isocurve(surface, direction, at) for direction in "uv" for at in GHOST_LINES]
