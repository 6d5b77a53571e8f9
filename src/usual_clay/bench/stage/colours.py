"""Deviation as colour: teal where the surface lies inside the scan, plum outside, bisque within."""

from __future__ import annotations

import numpy as np

from usual_clay.bench.theme import palette
from usual_clay.core.arrays import Floats

SCAN = palette.rgb("#A9B7C3")
REGION_LIT = palette.rgb("#EDC75E")
REGION_FAINT = palette.rgb("#BDBFBE")
CLAY = palette.rgb(palette.SURFACES)
CLAY_CHOSEN = palette.rgb("#D39B78")
BEYOND_REGION = palette.rgb("#E7D3C2")
INSIDE = palette.rgb(palette.TEAL)
WITHIN = palette.rgb(palette.BISQUE)
OUTSIDE = palette.rgb(palette.PLUM)


def deviation_colours(signed: Floats, tolerance: float, full: float) -> Floats:
    """Return colours, (n, 3), for signed deviations in mm; NaN is past the region.

    Positive means that the measured points lie on the side the normal points to: the surface is
    inside the scan. Colour starts at the tolerance and is full at `full`.
    """
    distance = np.abs(signed)
    strength = np.clip((distance - tolerance) / max(full - tolerance, 1e-12), 0.0, 1.0)
    # A first step of colour, so that just out of tolerance is seen as out.
    strength = np.where(distance > tolerance, 0.25 + 0.75 * strength, 0.0)[:, None]
    side = np.where((signed > 0)[:, None], INSIDE, OUTSIDE)
    colours = WITHIN + strength * (side - WITHIN)
    return np.where(np.isnan(signed)[:, None], BEYOND_REGION, colours)


def as_bytes(colours: Floats) -> np.ndarray:
    return np.clip(np.round(colours * 255), 0, 255).astype(np.uint8)
