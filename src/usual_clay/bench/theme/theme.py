"""Themes as data: Paper and Slate, with the same roles, and which of them is worn now."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QObject, QSettings, Qt, Signal
from PySide6.QtGui import QColor

# What may be chosen: to follow the desktop, or one of the two.
DESKTOP = "desktop"
CHOICES = (DESKTOP, "Paper", "Slate")


@dataclass(frozen=True)
class Theme:
    """The colours of a theme by their role, "#rrggbb"."""

    name: str
    ground: str
    panel: str
    field: str
    line: str
    ink: str
    soft_ink: str
    # What is switched off, and a ring round what lies on a picture.
    dim_ink: str
    halo: str
    accent: str
    accent_hover: str
    accent_tint: str
    accent_ink: str
    accent_dim: str
    on_accent: str
    chosen: str
    chosen_tint: str
    references: str
    surfaces: str
    surfaces_chosen: str
    bodies: str
    bodies_chosen: str
    # True edges of bodies.
    edges: str
    # The surface of the water that a body floats in.
    water: str
    isocurves: str
    scan: str
    region: str
    region_faint: str
    unmeasured: str
    teal: str
    bisque: str
    plum: str
    # Measured bars and dots that are calm: bisque is too pale on a light panel.
    calm: str
    # Candidates that others beat, and points that are taken out.
    beaten: str
    hint_bar: str
    stage_top: str
    stage_foot: str
    note: str
    note_ink: str


PAPER = Theme(
    name="Paper",
    ground="#F6F1E9",
    panel="#FBF8F3",
    field="#FFFFFF",
    line="#E2D9CC",
    ink="#2B2A28",
    soft_ink="#6B645B",
    dim_ink="#A39A8E",
    halo="#FFFFFF",
    accent="#B4532A",
    accent_hover="#9C4521",
    accent_tint="#F3DDCF",
    accent_ink="#8E3D1B",
    accent_dim="#DDB9A6",
    on_accent="#FFFFFF",
    chosen="#E0A100",
    chosen_tint="#FBEBC4",
    references="#6E7F8D",
    surfaces="#C98B69",
    surfaces_chosen="#D39B78",
    bodies="#A8623F",
    bodies_chosen="#B97250",
    edges="#4A2413",
    water="#8FB3BE",
    isocurves="#7A5540",
    scan="#A9B7C3",
    region="#EDC75E",
    region_faint="#BDBFBE",
    unmeasured="#E7D3C2",
    teal="#0E7C7B",
    bisque="#EFDFC8",
    plum="#7B2D5B",
    calm="#D9BD96",
    beaten="#C4B8A8",
    hint_bar="#EFE7DB",
    stage_top="#FCFAF6",
    stage_foot="#F1EAE0",
    note="#2B2A28",
    note_ink="#FBF8F3",
)
SLATE = Theme(
    name="Slate",
    ground="#2C3036",
    panel="#23262B",
    field="#2F343A",
    line="#42474E",
    ink="#ECE7DF",
    soft_ink="#B3ADA3",
    dim_ink="#7F7A72",
    halo="#14161A",
    accent="#DD8158",
    accent_hover="#E99471",
    accent_tint="#4B3529",
    accent_ink="#F2AC8C",
    accent_dim="#6D4A3A",
    on_accent="#1D1713",
    chosen="#EDB63C",
    chosen_tint="#4A3E20",
    references="#93A5B4",
    surfaces="#C98B69",
    surfaces_chosen="#DBA27E",
    bodies="#A8623F",
    bodies_chosen="#C0795A",
    edges="#2A140B",
    water="#6F98A6",
    isocurves="#5F4130",
    scan="#8292A0",
    region="#D9B54F",
    region_faint="#9DA1A1",
    unmeasured="#BBA491",
    teal="#3FB4B0",
    bisque="#DDCBB0",
    plum="#CB7FAB",
    calm="#A88C64",
    beaten="#6E675D",
    hint_bar="#1C1F23",
    stage_top="#3A4047",
    stage_foot="#272B30",
    note="#F1EBE1",
    note_ink="#23262B",
)


class Themes(QObject):
    """The theme that is worn.

    Signals
    -------
    changed : another theme is worn
    """

    changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.now = PAPER
        self._dark = False

    @property
    def choice(self) -> str:
        """What the user has chosen, one of `CHOICES`."""
        told = str(QSettings().value("theme", DESKTOP))
        return told if told in CHOICES else DESKTOP

    def choose(self, choice: str) -> None:
        """Follow the desktop, or wear one theme whatever it says."""
        QSettings().setValue("theme", choice)
        self.follow()

    def told(self, scheme: Qt.ColorScheme) -> None:
        """Take note of what the desktop asks for."""
        self._dark = scheme == Qt.ColorScheme.Dark
        self.follow()

    def follow(self) -> None:
        """Wear what was chosen, or what the desktop asks for."""
        self.wear({"Paper": PAPER, "Slate": SLATE}.get(self.choice, SLATE if self._dark else PAPER))

    def wear(self, theme: Theme) -> None:
        if theme is not self.now:
            self.now = theme
            self.changed.emit()


themes = Themes()


def now() -> Theme:
    """Return the theme that is worn now; colours are asked for where they are used."""
    return themes.now


def rgb(colour: str) -> np.ndarray:
    """Return a colour as three floats, 0 to 1."""
    return np.array([int(colour[i : i + 2], 16) for i in (1, 3, 5)]) / 255.0


def halo(alpha: int) -> QColor:
    """Return the colour of a ring that sets a mark off from what it lies on, 0 to 255 opaque."""
    made = QColor(now().halo)
    made.setAlpha(alpha)
    return made
