"""A pane: one view on the screen, with its overlays and the gestures made in it."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QEvent, QPointF, QRectF, Qt, QTimer, Signal
from PySide6.QtGui import QImage, QKeyEvent, QMouseEvent, QPainter, QWheelEvent
from PySide6.QtWidgets import QSizePolicy, QWidget

from usual_clay.bench.camera import Camera
from usual_clay.bench.canvas import Snap, Target
from usual_clay.bench.gestures import look
from usual_clay.bench.gestures.brush import brush
from usual_clay.bench.gestures.drag_handle import handles_of, paddles
from usual_clay.bench.gestures.drag_points import nudge
from usual_clay.bench.gestures.mark import mark
from usual_clay.bench.gestures.move_lamp import move_lamp
from usual_clay.bench.gestures.outline_select import (
    box_region,
    brush_points,
    choose_points,
    lasso_region,
)
from usual_clay.bench.gestures.pick import pick
from usual_clay.bench.gestures.place import place
from usual_clay.bench.gestures.pointer import Gesture, Pointer, Start
from usual_clay.bench.gestures.shape import shape
from usual_clay.bench.gestures.sources import take_sources
from usual_clay.bench.gestures.spread import spread
from usual_clay.bench.guard import Guarded
from usual_clay.bench.stage import curve_overlay, marks, overlay, picking
from usual_clay.bench.stage.net import NetPainter
from usual_clay.bench.stage.pane_keys import BACK, HOLDS, begins_number, holds
from usual_clay.bench.stage.reading import reading
from usual_clay.bench.stage.scene import Scene
from usual_clay.bench.stage.snapping import draw_snap, snap
from usual_clay.bench.stage.view import View
from usual_clay.bench.theme.theme import now
from usual_clay.core.arrays import Floats
from usual_clay.core.check.comb import Comb, comb_of
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.job.edits.shaping import has_through, places_of
from usual_clay.job.edits.surfaces import whole_lines
from usual_clay.job.items import Body, Curve, Dimension, ItemId, Picture, PointList, Surface
from usual_clay.job.joints import joints_of

# What a left press starts, by the tool in hand.
TOOLS: dict[str | None, Start] = {
    None: pick,
    "spread": spread,
    "brush": brush,
    "lasso": lasso_region,
    "box": box_region,
    "shape": shape,
    "mark": mark,
    "sources": take_sources,
    "place": place,
    "lamp": move_lamp,
    "mark points": choose_points,
    "brush points": brush_points,
}
NUDGES = {
    Qt.Key.Key_Left: (-1, 0),
    Qt.Key.Key_Right: (1, 0),
    Qt.Key.Key_Up: (0, 1),
    Qt.Key.Key_Down: (0, -1),
}
BRUSHES = ("brush", "brush points")
REST_AFTER = 160
NARROW = 400
# A view that no hand drags in follows so often while one drags in another, ms.
ELSEWHERE = 400
# Of many rows chosen no more than so many are drawn as curves.
MOST_LINES = 3


class Pane(Guarded, QWidget):
    """Shows a view and lets gestures at it.

    Signals
    -------
    hovered : text of the position under the cursor
    menu_wanted : the target under the cursor (or None), and the place on the screen
    legend_clicked : place on the screen
    """

    hovered = Signal(str)
    menu_wanted = Signal(object, object)
    legend_clicked = Signal(object)
    camera_moved = Signal()

    def __init__(self, scene: Scene, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.scene, self.session = scene, scene.session
        self.view = View()
        self.shows_legend = False
        self._image = QImage()
        self._stale = True
        self._moving = False
        self._gesture: Gesture | None = None
        self._cursor: QPointF | None = None
        self._target: Target | None = None
        self._takes_away = False
        self._drawn: tuple[Floats, bool] | None = None
        self._last: Pointer | None = None
        # What a drag is held to: an axis, the normal (n), a leg (l), or flat in the view (f).
        self.hold = "f"
        # Digits that were typed during a drag, and what the cursor is drawn to.
        self.typed = ""
        self.snapped: Snap | None = None
        self.last_drawn: Floats = np.zeros((0, 2))
        self._lit: tuple[Floats, bool, float] | None = None
        self._net = NetPainter()
        # Until the user moves the camera, everything is kept in view.
        self._fitted = self._fit_due = True
        self._rest = QTimer(self, singleShot=True, interval=REST_AFTER)
        self._rest.timeout.connect(self.rest)
        self._later = QTimer(self, singleShot=True, interval=ELSEWHERE)
        self._later.timeout.connect(self._refresh_now)
        self.setMouseTracking(True)
        self.setMinimumSize(120, 120)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAttribute(Qt.WidgetAttribute.WA_OpaquePaintEvent)

    # ---- picture -------------------------------------------------------------------------

    def refresh(self) -> None:
        """Show what the scene has now; while a hand drags in another view, now and then."""
        if self.session.hand.dragging in (None, self):
            self._refresh_now()
        elif not self._later.isActive():
            self._later.start()

    @property
    def _look(self) -> str | None:
        return None if self.shows_legend else self.scene.other_look

    def _refresh_now(self) -> None:
        self._later.stop()
        # Layers may ask for work in the background: that is not begun while painting.
        with self.scene.seen_as(self._look):
            self.view.set_layers(self.scene.layers())
        self._stale = True
        self.update()

    def move_camera(self, camera: Camera) -> None:
        """Look from elsewhere, coarsely until the view rests."""
        self._fitted = False
        self.view.camera = camera
        self._moving = True
        self.refresh()
        self.camera_moved.emit()

    def hold_camera(self) -> None:
        """Keep the view as it is from now on: the hand has set something in it."""
        self._fitted = self._fit_due = False

    def rest(self) -> None:
        """Show everything in full again."""
        self._rest.stop()
        self._moving = False
        if self.shows_legend:
            self.scene.sights.look_from(self.view.camera)
        self.refresh()

    def rest_soon(self) -> None:
        self._rest.start()

    def fit(self) -> None:
        """Show everything that is there, now and when the pane changes its size."""
        self._fitted = self._fit_due = True
        self.rest()

    def light_up(self, points: Floats | None, takes_away: bool, size: float) -> None:
        """Light points up over the picture while a brush moves; None ends it."""
        self._lit = None if points is None or not len(points) else (points, takes_away, size)
        self.update()

    def show_drawn(self, path: Floats | None, takes_away: bool) -> None:
        """Show an outline that is being drawn, in pixels; None ends it."""
        self._drawn = None if path is None else (path, takes_away)
        self.update()

    def paintEvent(self, _event: object) -> None:
        ratio = self.devicePixelRatioF()
        if self._stale:
            self.view.resize(round(self.width() * ratio), round(self.height() * ratio))
            if self._fit_due and (outline := self.scene.outline()) is not None:
                self._fit_due = False
                self.view.fit(outline)
            in_hand = self.session.hand.dragging is self
            self._image = self.view.image(self._moving or in_hand)
            self._image.setDevicePixelRatio(ratio)
            self._stale = False
        painter = QPainter(self)
        painter.drawImage(QPointF(0, 0), self._image)
        painter.save()
        painter.scale(1 / ratio, 1 / ratio)
        self._paint_on_model(painter)
        painter.restore()
        with self.scene.seen_as(self._look):
            self._paint_on_view(painter, ratio)

    def _paint_on_model(self, painter: QPainter) -> None:
        job = self.session.shown
        taking = self.session.hand.tool == "sources"
        if self.scene.shown.net and self.scene.shown.surfaces and not taking:
            surface = job.get(self.session.choice.item, Surface)
            if surface is not None and surface.visible:
                kept = self.session.job.get(surface.id, Surface)
                self._net.draw(
                    painter, self.view, surface.geometry, self.session.choice.points,
                    None if kept is None else kept.geometry,
                )  # fmt: skip
                self._paint_lines(painter, surface.geometry)
        points_list = job.get(self.session.choice.item, PointList)
        if points_list is not None and points_list.visible:
            overlay.draw_run(painter, self.view, points_list, self.session.choice.ringed)
        for curve in self.scene.in_hand():
            curve_overlay.draw_in_hand(painter, self.view, curve.geometry, self.scene.ink_of(curve))
        self._paint_curves(painter)
        picture = job.get(self.session.choice.item, Picture)
        shows = self.scene.shown.pictures and self.session.hand.tool is None
        if shows and picture is not None and picture.visible and not picture.locked:
            marks.draw_handles(painter, self.view, picture.placement)
        for dimension in job.all(Dimension):
            if dimension.visible and dimension.figure is not None:
                chosen = dimension.id == self.session.choice.item
                marks.draw_dimension(painter, self.view, dimension.figure, chosen)
        for places, bad in self.session.sight.graded:
            marks.draw_graded(painter, self.view, places, bad)
        sight = self.session.sight
        curve_overlay.draw_combs_on_cuts(painter, self.view, sight.combs, sight.combs_scale)
        for lit in self.session.sight.lit:
            marks.draw_lit_lines(painter, self.view, lit)
        for sign in self.session.sight.signs:
            # In a narrow view there is no room for words.
            marks.draw_sign(painter, self.view, sign, self.width() > NARROW)
        if self._lit is not None:
            points, takes_away, size = self._lit
            overlay.draw_lit(painter, self.view, points, takes_away, size)
        if self.session.hand.marking is not None:
            marks.draw_marks(painter, self.view, self.session.hand.marking)
        if self._drawn is not None:
            marks.draw_outline(painter, *self._drawn)
        if self.snapped is not None:
            draw_snap(painter, self, self.snapped)

    def _paint_lines(self, painter: QPainter, surface: BSplineSurface) -> None:
        """Draw rows and columns that are chosen whole as the curves that they are, with combs."""
        for line in whole_lines(surface, self.session.choice.points)[:MOST_LINES]:
            if self._shows_combs():
                self._paint_comb(painter, comb_of(line))
            curve_overlay.draw_in_hand(painter, self.view, line, now().chosen)

    def _paint_curves(self, painter: QPainter) -> None:
        """Draw polygon and comb of the chosen curve, or of one that is being drawn."""
        job, session = self.session.shown, self.session
        taking = session.hand.tool == "sources"
        chosen = None if taking else job.get(session.choice.item, Curve)
        fresh = [c for c in job.all(Curve) if c.id not in session.job.items]
        for curve in ([chosen] if chosen is not None else []) + fresh:
            if not curve.visible:
                continue
            old = session.job.get(curve.id, Curve)
            if old is not None and old.geometry is not curve.geometry:
                curve_overlay.draw_ghost(painter, self.view, old.geometry)
            if self._shows_combs() and len(fresh) < 2:
                self._paint_comb(painter, self.scene.comb(curve))
            if self.scene.shown.net:
                self._paint_points(painter, curve, curve is chosen)
        if chosen is not None and chosen.visible and self._shows_combs():
            # What meets it is judged with it.
            for other in {other.id: other for other, _ in joints_of(job, chosen)}.values():
                self._paint_comb(painter, self.scene.comb(other), self.scene.comb(chosen))
        if not taking:
            curve_overlay.draw_paddles(painter, self.view, handles_of(job, session.choice.item))

    def _paint_comb(self, painter: QPainter, comb: Comb, like: Comb | None = None) -> None:
        """Draw a comb as it is set, to the scale of another where that is given."""
        sight, quick = self.session.sight, self.session.hand.dragging is not None
        scale, density = sight.comb_scale, sight.comb_density
        curve_overlay.draw_comb(painter, self.view, comb, scale, density, like, quick)

    def _shows_combs(self) -> bool:
        """Tell whether combs are shown: while a hand drags, in the view that it drags in."""
        session = self.session
        elsewhere = session.hand.dragging is not None and session.hand.dragging is not self
        return session.sight.comb_scale > 0 and not elsewhere

    def _paint_points(self, painter: QPainter, curve: Curve, chosen: bool) -> None:
        """Draw the points of a curve that can be dragged, and its handles."""
        session = self.session
        points = session.choice.points if chosen else frozenset()
        if chosen and session.choice.point_kind == "through" and has_through(curve):
            curve_overlay.draw_through(painter, self.view, places_of(curve, "through"), points)
        else:
            curve_overlay.draw_polygon(painter, self.view, curve.geometry, points)
        if chosen:
            through = points if session.choice.point_kind == "through" else frozenset()
            curve_overlay.draw_paddles(painter, self.view, paddles(session.shown, curve, through))

    def _paint_on_view(self, painter: QPainter, ratio: float) -> None:
        overlay.draw_axes(painter, self.view, QPointF(38, self.height() - 40))
        if self.view.camera.true:
            overlay.draw_scale(painter, self.view, QPointF(82, self.height() - 24), ratio)
        if (self.shows_legend or self._look is not None) and self.legend_is_shown():
            box = overlay.legend_box(self.width(), self.height())
            self._draw_legend(painter, box)
        if self.shows_legend and not self.session.shown.items:
            overlay.draw_invitation(painter, self.rect())
        if self._cursor is None:
            return
        if self.session.hand.tool in BRUSHES:
            under = self.scene.scan_under(*self._ray(self._cursor))
            point = self.view.camera.focus if under is None else under[1].point
            radius = self.session.hand.brush_radius / self.view.mm_per_pixel(point) / ratio
            overlay.draw_brush(painter, self._cursor, radius, self._takes_away)
        elif self.typed:
            overlay.draw_note(painter, self._cursor, f"{self.typed} mm", self.width())
        elif self.snapped is None and (words := reading(self.scene, self._target)):
            overlay.draw_note(painter, self._cursor, words, self.width())

    def _draw_legend(self, painter: QPainter, box: QRectF) -> None:
        shown = self.scene.shown
        if shown.judging:
            overlay.draw_judging(painter, box, shown.judging, self.scene.sights)
        else:
            overlay.draw_legend(painter, box, self.session.shown.tolerance, shown.range)

    def _on_legend(self, at: QPointF) -> bool:
        box = overlay.legend_box(self.width(), self.height())
        return self.shows_legend and self.legend_is_shown() and box.contains(at)

    def legend_is_shown(self) -> bool:
        """Tell whether any surface or body shows deviation colours."""
        shown = self.scene.shown
        if shown.judging:
            return True
        if not shown.colours:
            return False
        kinds = ((Surface, shown.surfaces), (Body, shown.bodies))
        return any(
            on and item.visible and item.signed is not None
            for kind, on in kinds
            for item in self.session.shown.all(kind)
        )

    # ---- events --------------------------------------------------------------------------

    def _pointer(self, kind: str, event: QMouseEvent) -> Pointer:
        ratio, keys = self.devicePixelRatioF(), event.modifiers()
        return Pointer(
            kind,  # type: ignore[arg-type]
            event.position().x() * ratio,
            event.position().y() * ratio,
            shift=bool(keys & Qt.KeyboardModifier.ShiftModifier),
            ctrl=bool(keys & Qt.KeyboardModifier.ControlModifier),
        )

    def under(self, x: float, y: float) -> Target | None:
        """Return what lies at a place of the widget."""
        ratio = self.devicePixelRatioF()
        return self.target_at(x * ratio, y * ratio)

    def target_at(self, x: float, y: float) -> Target | None:
        """Return what lies at a pixel of the view."""
        return picking.under(self.scene, self.view, x, y)

    def place_at(self, x: float, y: float, on: ItemId | None = None) -> Floats | None:
        """Return the place in space at a pixel: on a picture's plane, or on what is there."""
        return picking.place_under(self.scene, self.view, x, y, on)

    def snap_at(
        self, x: float, y: float, but: ItemId | None = None, faces: bool = True
    ) -> Snap | None:
        """Return what the cursor is drawn to at a pixel."""
        return snap(self, x, y, but, faces)

    def _ray(self, at: QPointF) -> tuple[Floats, Floats]:
        ratio = self.devicePixelRatioF()
        return self.view.ray(at.x() * ratio, at.y() * ratio)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        self.setFocus()
        at = event.position()
        left = event.button() == Qt.MouseButton.LeftButton
        if event.button() == Qt.MouseButton.RightButton:
            target = self.under(at.x(), at.y())
            self.menu_wanted.emit(target, event.globalPosition().toPoint())
            return
        if left and self._on_legend(at):
            self.legend_clicked.emit(event.globalPosition().toPoint())
            return
        press = self._pointer("press", event)
        alt = bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
        if event.button() == Qt.MouseButton.MiddleButton or (left and alt):
            across = press.shift or self.view.camera.true
            self._begin((look.pan if across else look.turn)(self, press))
        elif left:
            self._begin(TOOLS[self.session.hand.tool](self, press))

    def _begin(self, gesture: Gesture) -> None:
        self.drop_gesture()
        self._gesture = gesture
        self.session.hand.dragging = self
        self._step(None)

    def _step(self, pointer: Pointer | None) -> None:
        if self._gesture is not None:
            try:
                self._gesture.send(pointer)  # type: ignore[arg-type]
            except StopIteration:
                self._gesture = self.session.hand.dragging = None
                self.session.hand.changed.emit()
                # What was drawn quickly while the hand moved it is drawn in full.
                self.rest_soon()
            except Exception:
                # What went wrong must not leave the hand in a drag that never ends.
                self.drop_gesture()
                raise

    def drop_gesture(self) -> bool:
        """End a gesture without keeping what it did; tell whether there was one."""
        if self._gesture is None:
            return False
        self._gesture.close()
        self._gesture = self.session.hand.dragging = None
        self.typed, self.snapped = "", None
        self.session.propose(None)
        return True

    def claims(self, event: QKeyEvent) -> bool:
        """Tell whether a key holds the running drag, or begins a number of what is drawn, and must
        not do what it does otherwise."""
        if self._gesture is not None:
            return holds(event)
        return self.session.hand.typed is not None and begins_number(event)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        word = event.text().lower()
        if self._gesture is not None and word in HOLDS:
            self.hold = "f" if self.hold == word else word
        elif self._gesture is not None and holds(event):
            self.typed = self.typed[:-1] if word == BACK else self.typed + word
            if self._last is not None:
                self._step(self._last)
            self.update()
        elif (typed := self.session.hand.typed) is not None and begins_number(event):
            typed(event.text())
        elif (step := NUDGES.get(Qt.Key(event.key()))) and self.session.choice.points:
            nudge(self, step)
        else:
            super().keyPressEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self._cursor = event.position()
        keys = event.modifiers()
        self._takes_away = bool(keys & Qt.KeyboardModifier.ControlModifier)
        if self._gesture is not None:
            self._last = self._pointer("move", event)
            self._step(self._last)
        else:
            self._last = None
            self._target = self.under(self._cursor.x(), self._cursor.y())
            marking, ratio = self.session.hand.marking, self.devicePixelRatioF()
            snaps = marking is not None and marking.snaps
            self.snapped = (
                snap(self, self._cursor.x() * ratio, self._cursor.y() * ratio) if snaps else None
            )
        point = None if self._target is None else self._target.hit.point
        words = (
            ""
            if point is None
            else "   ".join(
                f"{name} {value:.2f}".replace("-", overlay.MINUS)
                for name, value in zip("xyz", point, strict=True)
            )
        )
        self.hovered.emit(f"{words} mm" if words else "")
        self.update()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        self._step(self._pointer("release", event))

    def wheelEvent(self, event: QWheelEvent) -> None:
        ratio, at = self.devicePixelRatioF(), event.position()
        look.zoom(self, at.x() * ratio, at.y() * ratio, event.angleDelta().y() / 120)

    def leaveEvent(self, _event: QEvent) -> None:
        self._cursor = self._target = self.snapped = None
        self.hovered.emit("")
        self.update()

    def showEvent(self, _event: object) -> None:
        self.refresh()

    def resizeEvent(self, _event: object) -> None:
        self._fit_due = self._fit_due or self._fitted
        self.refresh()
