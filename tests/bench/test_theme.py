"""Themes: both can be read, and everything follows at once when another is worn."""

from __future__ import annotations

import numpy as np
import pytest
from PySide6.QtCore import QSettings, Qt
from PySide6.QtGui import QColor, QGuiApplication
from PySide6.QtWidgets import QAbstractButton, QApplication

from tests.bench.hands import Hands
from usual_clay.bench.stage.judging import Eye, mirror_shades
from usual_clay.bench.theme.theme import PAPER, SLATE, Theme, now, rgb, themes


def luminance(colour: str) -> float:
    """Relative luminance by WCAG 2.1."""
    c = rgb(colour)
    linear = np.where(c <= 0.04045, c / 12.92, ((c + 0.055) / 1.055) ** 2.4)
    return float(linear @ [0.2126, 0.7152, 0.0722])


def contrast(one: str, other: str) -> float:
    low, high = sorted((luminance(one), luminance(other)))
    return (high + 0.05) / (low + 0.05)


@pytest.mark.parametrize("worn", [PAPER, SLATE], ids=lambda worn: worn.name)
def test_text_can_be_read_in_both_themes(worn: Theme) -> None:
    assert contrast("#FFFFFF", "#000000") == pytest.approx(21)
    for ground in (worn.ground, worn.panel, worn.field, worn.hint_bar, worn.chosen_tint):
        assert contrast(worn.ink, ground) >= 4.5
    for ground in (worn.panel, worn.ground, worn.field, worn.hint_bar, worn.stage_foot):
        assert contrast(worn.soft_ink, ground) >= 4.5, ground
    for ink, ground in (
        (worn.accent_ink, worn.accent_tint),
        (worn.on_accent, worn.accent),
        (worn.note_ink, worn.note),
    ):
        assert contrast(ink, ground) >= 4.5


def shades(hands: Hands, widget) -> np.ndarray:
    image = widget.grab().toImage()
    return np.array(
        [
            [QColor(image.pixel(x, y)).lightnessF() for x in range(0, image.width(), 4)]
            for y in range(0, image.height(), 4)
        ]
    )


def test_everything_follows_when_another_theme_is_worn(with_demo: Hands) -> None:
    window, commands = with_demo.window, with_demo.window.commands
    parts = {
        "free view": window.stage.free,
        "side light": window.stage.side,
        "chart": window.balance.chart,
        "histogram": window.balance.histogram,
        "shelf": window.shelf,
        "card": window.cards,
        "rail": window.rail,
        "top bar": window.top_bar,
        "hint line": window.hint_line,
    }
    icons = [b for b in window.findChildren(QAbstractButton) if b.property("picture")]
    assert len(icons) > 10

    def icon_ink(part: QAbstractButton) -> float:
        image = part.icon().pixmap(24, 24).toImage()
        inked = [
            QColor.fromRgba(image.pixel(x, y))
            for x in range(image.width())
            for y in range(image.height())
            if QColor.fromRgba(image.pixel(x, y)).alpha() > 200
        ]
        return float(np.mean([colour.lightnessF() for colour in inked]))

    commands.run("theme Paper")
    with_demo.wait()
    light = {name: np.median(shades(with_demo, part)) for name, part in parts.items()}
    assert icon_ink(window.rail.tools["spread"]) < 0.4
    rows = [row.property("chosen") for row in window.shelf.rows.values()]
    commands.run("theme Slate")
    with_demo.wait()
    assert now() is SLATE
    for name, part in parts.items():
        assert light[name] > 0.85, name
        assert np.median(shades(with_demo, part)) < 0.35, name
    assert icon_ink(window.rail.tools["spread"]) > 0.6
    # The same row is chosen, its figures stand, and the stage still answers.
    assert [row.property("chosen") for row in window.shelf.rows.values()] == rows
    assert any(rows)
    commands.run("theme Paper")
    with_demo.wait()
    for name, part in parts.items():
        assert np.median(shades(with_demo, part)) == pytest.approx(light[name], abs=0.01), name


def test_the_desktop_is_followed_until_a_theme_is_chosen(hands: Hands) -> None:
    desktop = QGuiApplication.styleHints().colorSchemeChanged
    seen: list[str] = []
    told = themes.changed.connect(lambda: seen.append(now().name))
    try:
        hands.window.commands.run("theme desktop")
        desktop.emit(Qt.ColorScheme.Dark)
        assert (now(), seen) == (SLATE, ["Slate"])
        hands.window.commands.run("theme Paper")
        assert now() is PAPER
        desktop.emit(Qt.ColorScheme.Light)
        desktop.emit(Qt.ColorScheme.Dark)
        assert now() is PAPER
        assert QSettings().value("theme") == "Paper"
    finally:
        desktop.emit(Qt.ColorScheme.Light)
        themes.changed.disconnect(told)


def test_what_is_mirrored_is_bright_and_dark_in_both_themes(app: QApplication) -> None:
    ways = np.random.default_rng(0).normal(size=(4000, 3))
    ways /= np.linalg.norm(ways, axis=1)[:, None]
    for palette in (PAPER, SLATE):
        themes.wear(palette)
        for name in ("stripes", "room", "lamp"):
            light = mirror_shades(name, ways, Eye()).mean(axis=1) / 255
            assert light.min() < 0.4
            assert light.max() > 0.85
    themes.follow()


def test_in_a_narrow_window_nothing_is_squeezed_or_hidden(hands: Hands) -> None:
    window = hands.window
    for width in (1400, 1024):
        window.resize(width, 700)
        hands.wait()
        bar = window.top_bar
        assert bar.finder.width() >= bar.finder.sizeHint().width()
        # Every switch over the stage is in sight, in one row or in two.
        pane, switches = window.stage.large, window.stage.switches.values()
        corners = [each.mapTo(pane, each.rect().bottomRight()) for each in switches]
        assert max(corner.x() for corner in corners) < pane.width()
        assert len({corner.y() for corner in corners}) == (1 if width == 1400 else 2)
        frame = bar.tolerance.parentWidget()
        assert frame.width() >= frame.sizeHint().width()
