"""Fonts, icons and the style sheet, put on the application once."""

from __future__ import annotations

from functools import cache
from pathlib import Path

import qtawesome
from PySide6.QtCore import QLocale
from PySide6.QtGui import QColor, QFont, QFontDatabase, QIcon, QPalette, QPixmap
from PySide6.QtWidgets import QApplication

from usual_clay.bench.theme import palette as p

FOLDER = Path(__file__).parent
FAMILY = "Inter"


def dress(app: QApplication) -> None:
    """Give the application its fonts, colours and style sheet."""
    # Decimal points everywhere, as in the files and reports.
    QLocale.setDefault(QLocale.c())
    for font_file in sorted((FOLDER / "fonts").glob("*.otf")):
        QFontDatabase.addApplicationFont(str(font_file))
    app.setFont(text_font())
    app.setStyle("Fusion")
    colours = QPalette()
    for role, colour in (
        (QPalette.ColorRole.Window, p.PANEL),
        (QPalette.ColorRole.Base, p.FIELD),
        (QPalette.ColorRole.Button, p.FIELD),
        (QPalette.ColorRole.Text, p.INK),
        (QPalette.ColorRole.WindowText, p.INK),
        (QPalette.ColorRole.ButtonText, p.INK),
        (QPalette.ColorRole.PlaceholderText, p.SOFT_INK),
        (QPalette.ColorRole.Highlight, p.ACCENT),
        (QPalette.ColorRole.HighlightedText, "#FFFFFF"),
        (QPalette.ColorRole.ToolTipBase, p.NOTE),
        (QPalette.ColorRole.ToolTipText, p.NOTE_INK),
    ):
        colours.setColor(role, QColor(colour))
    app.setPalette(colours)
    app.setStyleSheet(STYLE)
    app.setWindowIcon(QIcon(str(FOLDER / "icons" / "usual-clay.svg")))


def text_font(size: float = 9.5, weight: QFont.Weight = QFont.Weight.Normal) -> QFont:
    """Return the family with tabular figures."""
    font = QFont(FAMILY)
    font.setPointSizeF(size)
    font.setWeight(weight)
    font.setFeature(QFont.Tag("tnum"), 1)
    return font


@cache
def icon(name: str, colour: str = p.INK) -> QIcon:
    """Return an icon of the one shipped family, Phosphor in its regular weight."""
    return qtawesome.icon(f"ph.{name}", color=colour, color_active=colour)


@cache
def colour_icon(colour: str) -> QIcon:
    """Return a patch of a colour for a menu."""
    patch = QPixmap(14, 14)
    patch.fill(QColor(colour))
    return QIcon(patch)


STYLE = f"""
QWidget {{ color: {p.INK}; }}
QMainWindow, QWidget#panel {{ background: {p.PANEL}; }}
QToolTip {{ background: {p.NOTE}; color: {p.NOTE_INK}; border: none; padding: 5px 8px; }}
QLabel[role="soft"] {{ color: {p.SOFT_INK}; }}
QLabel[role="onstage"] {{ color: {p.SOFT_INK}; background: rgba(251,248,243,190);
    border-radius: 6px; padding: 3px 7px; }}
QLabel[role="title"] {{ font-size: 11pt; font-weight: 600; }}
QLabel[role="group"] {{ color: {p.SOFT_INK}; font-weight: 600; font-size: 8.5pt; }}
QLabel[role="figure"] {{ font-size: 13.5pt; font-weight: 600; }}
QLabel[role="small"] {{ color: {p.SOFT_INK}; font-size: 8.5pt; }}
QLabel[role="trouble"] {{ color: {p.ACCENT_INK}; background: {p.ACCENT_TINT};
    border-radius: 6px; padding: 8px 10px; }}
QLabel[role="news"] {{ color: {p.INK}; background: {p.GROUND};
    border-radius: 6px; padding: 8px 10px; }}
QFrame#tile {{ background: {p.GROUND}; border-radius: 6px; }}
QFrame#line {{ background: {p.LINE}; border: none; }}
QPushButton {{ background: {p.FIELD}; border: 1px solid {p.LINE}; border-radius: 6px;
    padding: 7px 12px; }}
QPushButton:hover {{ border-color: {p.ACCENT}; }}
QPushButton:focus {{ border: 1px solid {p.ACCENT}; }}
QPushButton:disabled {{ color: #A39A8E; background: {p.GROUND}; }}
QPushButton[role="main"] {{ background: {p.ACCENT}; color: white; border-color: {p.ACCENT};
    font-weight: 600; }}
QPushButton[role="main"]:hover {{ background: {p.ACCENT_HOVER}; }}
QPushButton[role="main"]:focus {{ border: 2px solid {p.ACCENT_INK}; padding: 6px 11px; }}
QPushButton[role="main"]:disabled {{ background: #DDB9A6; border-color: #DDB9A6; color: white; }}
QPushButton[role="quiet"] {{ border-color: transparent; background: transparent;
    padding: 4px 6px; }}
QPushButton[role="quiet"]:hover {{ background: {p.ACCENT_TINT}; }}
QPushButton[role="quiet"]:focus {{ border-color: {p.ACCENT}; }}
QPushButton[role="station"] {{ border-color: transparent; background: transparent;
    padding: 7px 16px; color: {p.SOFT_INK}; }}
QPushButton[role="station"]:hover {{ color: {p.INK}; background: {p.GROUND}; }}
QPushButton[role="station"]:checked {{ background: {p.ACCENT}; color: white; font-weight: 600; }}
QPushButton[role="station"]:focus {{ border-color: {p.ACCENT}; }}
QPushButton[role="toggle"] {{ border: 1px solid transparent; background: rgba(251,248,243,190);
    color: {p.SOFT_INK}; padding: 3px 7px; }}
QPushButton[role="toggle"]:hover {{ background: rgba(255,255,255,170); }}
QPushButton[role="toggle"]:checked {{ color: {p.INK}; font-weight: 600; background: {p.FIELD};
    border-color: {p.LINE}; }}
QPushButton[role="toggle"]:focus {{ border-color: {p.ACCENT}; }}
QPushButton[role="choice"] {{ border-radius: 0; padding: 5px 8px; margin-left: -1px; }}
QPushButton[role="choice"]:checked {{ background: {p.ACCENT_TINT}; color: {p.ACCENT_INK};
    font-weight: 600; }}
QToolButton[role="tool"] {{ border: 1px solid transparent; border-radius: 6px; padding: 5px 2px;
    color: {p.INK}; font-size: 8.5pt; }}
QToolButton[role="tool"]:hover {{ background: {p.GROUND}; }}
QToolButton[role="tool"]:checked {{ background: {p.ACCENT_TINT}; color: {p.ACCENT_INK}; }}
QToolButton[role="tool"]:focus {{ border-color: {p.ACCENT}; }}
QToolButton[role="tool"]:disabled {{ color: #A39A8E; }}
QSpinBox, QDoubleSpinBox, QLineEdit, QComboBox, QKeySequenceEdit {{ background: {p.FIELD};
    border: 1px solid {p.LINE}; border-radius: 6px; padding: 4px 7px; min-height: 18px;
    selection-background-color: {p.ACCENT}; selection-color: white; }}
QSpinBox:focus, QDoubleSpinBox:focus, QLineEdit:focus, QComboBox:focus {{
    border-color: {p.ACCENT}; }}
QAbstractSpinBox::up-button, QAbstractSpinBox::down-button {{ subcontrol-origin: border;
    subcontrol-position: right; width: 0px; border: none; }}
QComboBox::drop-down {{ border: none; width: 20px; }}
QComboBox QAbstractItemView {{ background: {p.FIELD}; border: 1px solid {p.LINE};
    selection-background-color: {p.ACCENT_TINT}; selection-color: {p.ACCENT_INK}; }}
QSlider::groove:horizontal {{ height: 4px; background: {p.LINE}; border-radius: 2px; }}
QSlider::sub-page:horizontal {{ background: {p.CALM}; border-radius: 2px; }}
QSlider::handle:horizontal {{ width: 14px; height: 14px; margin: -5px 0; border-radius: 7px;
    background: {p.ACCENT}; }}
QSlider::handle:horizontal:focus {{ background: {p.ACCENT_INK}; }}
QProgressBar {{ background: {p.LINE}; border: none; border-radius: 3px; max-height: 6px; }}
QProgressBar::chunk {{ background: {p.ACCENT}; border-radius: 3px; }}
QMenu {{ background: {p.FIELD}; border: 1px solid {p.LINE}; padding: 4px; }}
QMenu::item {{ padding: 6px 22px 6px 12px; border-radius: 4px; }}
QMenu::item:selected {{ background: {p.ACCENT_TINT}; color: {p.ACCENT_INK}; }}
QMenu::separator {{ height: 1px; background: {p.LINE}; margin: 4px 6px; }}
QListWidget {{ background: {p.FIELD}; border: none; outline: none; }}
QListWidget::item {{ border-radius: 4px; }}
QListWidget::item:selected {{ background: {p.ACCENT_TINT}; color: {p.ACCENT_INK}; }}
QScrollArea {{ border: none; background: transparent; }}
QScrollBar:vertical {{ width: 8px; background: transparent; }}
QScrollBar::handle:vertical {{ background: {p.LINE}; border-radius: 4px; min-height: 24px; }}
QScrollBar::add-line, QScrollBar::sub-line {{ height: 0; }}
QTableWidget {{ background: {p.FIELD}; border: 1px solid {p.LINE}; gridline-color: {p.LINE}; }}
QHeaderView::section {{ background: {p.GROUND}; border: none; padding: 6px; }}
"""
