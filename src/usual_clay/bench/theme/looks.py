"""Fonts, icons and the style sheet, put on the application once."""

from __future__ import annotations

from functools import cache
from pathlib import Path

import qtawesome
from PySide6.QtCore import QLocale
from PySide6.QtGui import QColor, QFont, QFontDatabase, QIcon, QPalette, QPixmap
from PySide6.QtWidgets import QAbstractButton, QApplication

from usual_clay.bench.theme.theme import Theme, now, themes

FOLDER = Path(__file__).parent
FAMILY = "Inter"
# What says that a box unfolds; the style sheet wants its place.
UNFOLD = (FOLDER / "icons" / "unfold.svg").as_posix()


def dress(app: QApplication) -> None:
    """Give the application its fonts, and the theme that was chosen, now and when it changes."""
    # Decimal points everywhere, as in the files and reports.
    QLocale.setDefault(QLocale.c())
    for font_file in sorted((FOLDER / "fonts").glob("*.otf")):
        QFontDatabase.addApplicationFont(str(font_file))
    app.setFont(text_font())
    app.setStyle("Fusion")
    app.setWindowIcon(QIcon(str(FOLDER / "icons" / "usual-clay.svg")))
    app.styleHints().colorSchemeChanged.connect(themes.told)
    themes.told(app.styleHints().colorScheme())
    themes.changed.connect(lambda: _wear(app))
    _wear(app)


def _wear(app: QApplication) -> None:
    """Put the theme's palette and style sheet on the application."""
    p = now()
    colours = QPalette()
    for role, colour in (
        (QPalette.ColorRole.Window, p.panel),
        (QPalette.ColorRole.Base, p.field),
        (QPalette.ColorRole.Button, p.field),
        (QPalette.ColorRole.Text, p.ink),
        (QPalette.ColorRole.WindowText, p.ink),
        (QPalette.ColorRole.ButtonText, p.ink),
        (QPalette.ColorRole.PlaceholderText, p.soft_ink),
        (QPalette.ColorRole.Highlight, p.accent),
        (QPalette.ColorRole.HighlightedText, p.on_accent),
        (QPalette.ColorRole.ToolTipBase, p.note),
        (QPalette.ColorRole.ToolTipText, p.note_ink),
    ):
        colours.setColor(role, QColor(colour))
    app.setPalette(colours)
    # A sheet that takes another's place is put on each part once for every one that it lies in.
    app.setStyleSheet("")
    app.setStyleSheet(style_of(p))
    for part in app.allWidgets():
        if isinstance(part, QAbstractButton) and (told := part.property("picture")):
            put_icon(part, *told.split(" "))


def text_font(size: float = 9.5, weight: QFont.Weight = QFont.Weight.Normal) -> QFont:
    """Return the family with tabular figures."""
    font = QFont(FAMILY)
    font.setPointSizeF(size)
    font.setWeight(weight)
    font.setFeature(QFont.Tag("tnum"), 1)
    return font


def put_icon(part: QAbstractButton, name: str, role: str = "ink") -> None:
    """Put an icon on a button in the theme's colour of a role, now and when the theme changes."""
    part.setProperty("picture", f"{name} {role}")
    part.setIcon(_icon(name, getattr(now(), role)))


@cache
def _icon(name: str, colour: str) -> QIcon:
    """Return an icon of the one shipped family, Phosphor in its regular weight."""
    return qtawesome.icon(f"ph.{name}", color=colour, color_active=colour)


@cache
def colour_icon(colour: str) -> QIcon:
    """Return a patch of a colour for a menu."""
    patch = QPixmap(14, 14)
    patch.fill(QColor(colour))
    return QIcon(patch)


def style_of(p: Theme) -> str:
    """Return the style sheet of a theme."""
    return f"""
QWidget {{ color: {p.ink}; }}
QMainWindow, QWidget#panel {{ background: {p.panel}; }}
QToolTip {{ background: {p.note}; color: {p.note_ink}; border: none; padding: 5px 8px; }}
QLabel[role="soft"] {{ color: {p.soft_ink}; }}
QLabel[role="onstage"] {{ color: {p.soft_ink}; background: {veil(p.panel, 190)};
    border-radius: 6px; padding: 3px 7px; }}
QLabel[role="title"] {{ font-size: 11pt; font-weight: 600; }}
QLabel[role="group"] {{ color: {p.soft_ink}; font-weight: 600; font-size: 8.5pt; }}
QLabel[role="figure"] {{ font-size: 13.5pt; font-weight: 600; }}
QLabel[role="small"] {{ color: {p.soft_ink}; font-size: 8.5pt; }}
QLabel[role="trouble"] {{ color: {p.accent_ink}; background: {p.accent_tint};
    border-radius: 6px; padding: 8px 10px; }}
QLabel[role="news"] {{ color: {p.ink}; background: {p.ground};
    border-radius: 6px; padding: 8px 10px; }}
QFrame#tile {{ background: {p.ground}; border-radius: 6px; }}
QFrame#line {{ background: {p.line}; border: none; }}
QPushButton {{ background: {p.field}; border: 1px solid {p.line}; border-radius: 6px;
    padding: 7px 12px; }}
QPushButton:hover {{ border-color: {p.accent}; }}
QPushButton:focus {{ border: 1px solid {p.accent}; }}
QPushButton:disabled {{ color: {p.dim_ink}; background: {p.ground}; }}
QPushButton[role="main"] {{ background: {p.accent}; color: {p.on_accent}; border-color: {p.accent};
    font-weight: 600; }}
QPushButton[role="main"]:hover {{ background: {p.accent_hover}; }}
QPushButton[role="main"]:focus {{ border: 2px solid {p.accent_ink}; padding: 6px 11px; }}
QPushButton[role="main"]:disabled {{ background: {p.accent_dim}; border-color: {p.accent_dim};
    color: {p.on_accent}; }}
QPushButton[role="quiet"] {{ border-color: transparent; background: transparent;
    padding: 4px 6px; }}
QPushButton[role="quiet"]:hover {{ background: {p.accent_tint}; }}
QPushButton[role="quiet"]:focus {{ border-color: {p.accent}; }}
QPushButton[role="row"] {{ border-color: transparent; background: transparent;
    text-align: left; padding: 2px 4px; font-size: 8.5pt; }}
QPushButton[role="row"]:hover {{ background: {p.accent_tint}; }}
QPushButton[role="row"]:focus {{ border-color: {p.accent}; }}
QPushButton[role="station"] {{ border-color: transparent; background: transparent;
    padding: 7px 16px; color: {p.soft_ink}; }}
QPushButton[role="station"]:hover {{ color: {p.ink}; background: {p.ground}; }}
QPushButton[role="station"]:checked {{ background: {p.accent}; color: {p.on_accent};
    font-weight: 600; }}
QPushButton[role="station"]:focus {{ border-color: {p.accent}; }}
QPushButton[role="toggle"] {{ border: 1px solid transparent; background: {veil(p.panel, 190)};
    color: {p.soft_ink}; padding: 3px 7px; }}
QPushButton[role="toggle"]:hover {{ background: {veil(p.field, 170)}; }}
QPushButton[role="toggle"]:checked {{ color: {p.ink}; font-weight: 600; background: {p.field};
    border-color: {p.line}; }}
QPushButton[role="toggle"]:focus {{ border-color: {p.accent}; }}
QPushButton[role="choice"] {{ border-radius: 0; padding: 5px 8px; margin-left: -1px; }}
QPushButton[role="choice"]:checked {{ background: {p.accent_tint}; color: {p.accent_ink};
    font-weight: 600; }}
QToolButton[role="tool"] {{ border: 1px solid transparent; border-radius: 6px; padding: 5px 2px;
    color: {p.ink}; font-size: 8.5pt; }}
QToolButton[role="tool"]:hover {{ background: {p.ground}; }}
QToolButton[role="tool"]:checked {{ background: {p.accent_tint}; color: {p.accent_ink}; }}
QToolButton[role="tool"]:focus {{ border-color: {p.accent}; }}
QToolButton[role="tool"]:disabled {{ color: {p.dim_ink}; }}
QSpinBox, QDoubleSpinBox, QLineEdit, QComboBox, QKeySequenceEdit {{ background: {p.field};
    border: 1px solid {p.line}; border-radius: 6px; padding: 4px 7px; min-height: 18px;
    selection-background-color: {p.accent}; selection-color: {p.on_accent}; }}
QSpinBox:focus, QDoubleSpinBox:focus, QLineEdit:focus, QComboBox:focus {{
    border-color: {p.accent}; }}
QAbstractSpinBox::up-button, QAbstractSpinBox::down-button {{ subcontrol-origin: border;
    subcontrol-position: right; width: 0px; border: none; }}
QComboBox::drop-down {{ border: none; width: 20px; }}
QComboBox::down-arrow {{ image: url("{UNFOLD}"); width: 12px; height: 12px; }}
QComboBox QAbstractItemView {{ background: {p.field}; border: 1px solid {p.line};
    selection-background-color: {p.accent_tint}; selection-color: {p.accent_ink}; }}
QSlider::groove:horizontal {{ height: 4px; background: {p.line}; border-radius: 2px; }}
QSlider::sub-page:horizontal {{ background: {p.calm}; border-radius: 2px; }}
QSlider::handle:horizontal {{ width: 14px; height: 14px; margin: -5px 0; border-radius: 7px;
    background: {p.accent}; }}
QSlider::handle:horizontal:focus {{ background: {p.accent_ink}; }}
QProgressBar {{ background: {p.line}; border: none; border-radius: 3px; max-height: 6px; }}
QProgressBar::chunk {{ background: {p.accent}; border-radius: 3px; }}
QMenu {{ background: {p.field}; border: 1px solid {p.line}; padding: 4px; }}
QMenu::item {{ padding: 6px 22px 6px 12px; border-radius: 4px; }}
QMenu::item:selected {{ background: {p.accent_tint}; color: {p.accent_ink}; }}
QMenu::separator {{ height: 1px; background: {p.line}; margin: 4px 6px; }}
QListWidget {{ background: {p.field}; border: none; outline: none; }}
QListWidget::item {{ border-radius: 4px; }}
QListWidget::item:selected {{ background: {p.accent_tint}; color: {p.accent_ink}; }}
QScrollArea {{ border: none; background: transparent; }}
QScrollBar:vertical {{ width: 8px; background: transparent; }}
QScrollBar::handle:vertical {{ background: {p.line}; border-radius: 4px; min-height: 24px; }}
QScrollBar::add-line, QScrollBar::sub-line {{ height: 0; }}
QTableWidget {{ background: {p.field}; border: 1px solid {p.line}; gridline-color: {p.line}; }}
QFrame#aim {{ background: {p.field}; border: 1px solid {p.line}; border-radius: 6px; }}
QFrame#aim QDoubleSpinBox {{ border: 1px solid transparent; min-height: 16px; font-weight: 600;
    padding: 2px 3px; }}
QFrame#aim QDoubleSpinBox:focus {{ border-color: {p.accent}; }}
QPushButton[role="find"] {{ color: {p.soft_ink}; padding: 6px 10px; }}
QFrame#row {{ background: transparent; border-radius: 5px; border: 1px solid transparent; }}
QFrame#row[chosen="true"] {{ background: {p.chosen_tint}; }}
QFrame#row[drop="above"] {{ border-top: 2px solid {p.accent}; }}
QFrame#row[drop="below"] {{ border-bottom: 2px solid {p.accent}; }}
QFrame#row:focus {{ border-color: {p.accent}; }}
QLabel[role="dim"] {{ color: {p.dim_ink}; }}
QLabel[role="figure dim"] {{ font-size: 13.5pt; font-weight: 600; color: {p.dim_ink}; }}
HintLine, FirstSurface {{ background: {p.hint_bar}; }}
Finder {{ background: {p.field}; border: 1px solid {p.line}; border-radius: 8px; }}
QHeaderView::section {{ background: {p.ground}; border: none; padding: 6px; }}
"""


def veil(colour: str, alpha: int) -> str:
    """Return a colour that lets through, as style sheets write it."""
    made = QColor(colour)
    return f"rgba({made.red()},{made.green()},{made.blue()},{alpha})"
