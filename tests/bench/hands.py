"""A real window, driven by real mouse and key events."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QMouseEvent, QWheelEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QPushButton, QWidget

from usual_clay.bench.stage.pane import Pane
from usual_clay.bench.window import Window
from usual_clay.demo.make import BACK_SEED
from usual_clay.demo.scan import pose
from usual_clay.files.deliver import DeliverSettings
from usual_clay.job.items import Picture

NONE = Qt.KeyboardModifier.NoModifier
SHIFT = Qt.KeyboardModifier.ShiftModifier
CTRL = Qt.KeyboardModifier.ControlModifier
ALT = Qt.KeyboardModifier.AltModifier
BACK = BACK_SEED


class Hands:
    """Hands on a window."""

    def __init__(self, window: Window) -> None:
        self.window = window

    @property
    def session(self):
        return self.window.session

    @property
    def pane(self) -> Pane:
        return self.window.stage.free

    def wait(self, until: Callable[[], bool] | None = None, seconds: float = 60) -> None:
        """Let the window work until a condition holds, or until all is quiet."""
        end = time.monotonic() + seconds
        stage, quiet = self.window.stage, 0
        while time.monotonic() < end:
            QApplication.processEvents()
            # Outside of an event loop what is to be deleted later would stay for ever.
            QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
            if until is not None:
                if until():
                    return
            else:
                quiet = 0 if self.session.work.is_busy() else quiet + 1
                # Nobody looks meanwhile, and the renderer is software; painting may begin work.
                stage.setUpdatesEnabled(quiet > 2)
                if quiet > 8:
                    return
            time.sleep(0.005)
        stage.setUpdatesEnabled(True)
        raise TimeoutError("the window did not come to rest")

    def place(self, lure_point: Sequence[float], pane: Pane | None = None) -> QPoint:
        """Return where a point of the lure is on a pane."""
        pane = pane or self.pane
        # The demo job's scan is set straight; the scan alone lies as the scanner saw it.
        straight = any(self.session.job.all(Picture))
        point = np.array([lure_point])
        x, y, _ = pane.view.project(point if straight else pose().to_scan(point))[0]
        return QPoint(round(x), round(y))

    def click(self, lure_point: Sequence[float], held=NONE, pane: Pane | None = None) -> None:
        pane = pane or self.pane
        QTest.mouseClick(pane, Qt.MouseButton.LeftButton, held, self.place(lure_point, pane))
        self.wait()

    def drag(
        self,
        path: Sequence[QPoint],
        button: Qt.MouseButton = Qt.MouseButton.LeftButton,
        held=NONE,
        release: bool = True,
        widget: QWidget | None = None,
    ) -> None:
        """Press, move along a path and release."""
        widget = widget or self.pane
        kinds = [QEvent.Type.MouseButtonPress] + [QEvent.Type.MouseMove] * (len(path) - 1)
        for kind, place in zip(kinds, path, strict=True):
            at = QPointF(place)
            QApplication.sendEvent(
                widget, QMouseEvent(kind, at, widget.mapToGlobal(at), button, button, held)
            )
            QApplication.processEvents()
        if release:
            at = QPointF(path[-1])
            up = QMouseEvent(
                QEvent.Type.MouseButtonRelease,
                at,
                widget.mapToGlobal(at),
                button,
                Qt.MouseButton.NoButton,
                held,
            )
            QApplication.sendEvent(widget, up)
            self.wait()

    def press(self, words: str, widget: QWidget | None = None) -> None:
        """Click the visible button that says so, on the card unless told otherwise."""
        card = self.window.cards.card
        homes = [widget] if widget is not None else [card, *filter(None, [card.foot])]
        every = [b for home in homes for b in home.findChildren(QPushButton)]
        buttons = [b for b in every if b.text() == words]
        made = next(b for b in buttons if b.isVisible())
        QTest.mouseClick(made, Qt.MouseButton.LeftButton)
        self.wait()

    def hand_over(self, path: Path) -> None:
        """Write the chosen thing, or all that is visible, by a file's ending."""
        documents = self.window.documents
        chord = self.session.job.tolerance.deviation / 5
        settings = DeliverSettings("chosen", suffix=path.suffix, chord=chord)
        if not documents.handed_over(settings):
            settings = replace(settings, what="visible")
        documents.deliver_to(path, settings)

    def click_at(self, point: Sequence[float], held=NONE, pane: Pane | None = None) -> None:
        """Click where a point of the job's own space is seen."""
        pane = pane or self.pane
        x, y, _ = pane.view.project(np.array([point], dtype=float))[0]
        QTest.mouseClick(pane, Qt.MouseButton.LeftButton, held, QPoint(round(x), round(y)))
        self.wait()

    def hover(self, place: QPoint, pane: Pane | None = None) -> None:
        pane = pane or self.pane
        at, none = QPointF(place), Qt.MouseButton.NoButton
        event = QMouseEvent(QEvent.Type.MouseMove, at, pane.mapToGlobal(at), none, none, NONE)
        QApplication.sendEvent(pane, event)
        QApplication.processEvents()

    def wheel(self, place: QPoint, notches: int) -> None:
        at = QPointF(place)
        event = QWheelEvent(
            at,
            self.pane.mapToGlobal(at),
            QPoint(),
            QPoint(0, 120 * notches),
            Qt.MouseButton.NoButton,
            NONE,
            Qt.ScrollPhase.NoScrollPhase,
            False,
        )
        QApplication.sendEvent(self.pane, event)
        QApplication.processEvents()

    def key(self, key: Qt.Key, held=NONE, widget: QWidget | None = None) -> None:
        QTest.keyClick(widget or QApplication.focusWidget() or self.window, key, held)
        self.wait()

    def picture(self, pane: Pane | None = None) -> np.ndarray:
        """Return what a pane shows, (height, width, 3)."""
        image = (
            (pane or self.pane)
            .grab()
            .toImage()
            .convertToFormat(self.window.grab().toImage().Format.Format_RGB888)
        )
        rows = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), -1)
        return rows[:, : 3 * image.width()].reshape(image.height(), image.width(), 3).astype(int)
