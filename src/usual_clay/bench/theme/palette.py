"""The colours of Paper by their role."""

from __future__ import annotations

import numpy as np

GROUND = "#F6F1E9"
PANEL = "#FBF8F3"
FIELD = "#FFFFFF"
LINE = "#E2D9CC"
INK = "#2B2A28"
SOFT_INK = "#6B645B"
ACCENT = "#B4532A"
ACCENT_HOVER = "#9C4521"
ACCENT_TINT = "#F3DDCF"
ACCENT_INK = "#8E3D1B"
CHOSEN = "#E0A100"
CHOSEN_TINT = "#FBEBC4"
REFERENCES = "#6E7F8D"
SURFACES = "#C98B69"
TEAL = "#0E7C7B"
BISQUE = "#EFDFC8"
PLUM = "#7B2D5B"
HINT_BAR = "#EFE7DB"
STAGE_TOP = "#FCFAF6"
STAGE_FOOT = "#F1EAE0"
NOTE = "#2B2A28"
NOTE_INK = "#FBF8F3"

# Measured bars and dots that are calm: bisque is too pale on the panel.
CALM = "#D9BD96"


def rgb(colour: str) -> np.ndarray:
    """Return a colour as three floats, 0 to 1."""
    return np.array([int(colour[i : i + 2], 16) for i in (1, 3, 5)]) / 255.0
