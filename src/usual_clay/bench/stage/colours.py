"""Deviation as colour: teal where the surface lies inside the scan, plum outside, bisque within."""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from usual_clay.bench.stage.portrait import Spots
from usual_clay.bench.theme.theme import now, rgb
from usual_clay.core.arrays import Floats

# How much of its own colour a stripe of the unmeasured keeps.
HATCH = 0.15


def deviation_colours(signed: Floats, tolerance: float, full: float) -> Floats:
    """Return colours, (n, 3), for signed deviations in mm; NaN is past the region.

    Positive means that the measured points lie on the side the normal points to: the surface is
    inside the scan. Colour starts at the tolerance and is full at `full`.
    """
    worn = now()
    distance = np.abs(signed)
    strength = np.clip((distance - tolerance) / max(full - tolerance, 1e-12), 0.0, 1.0)
    # A first step of colour, so that just out of tolerance is seen as out.
    strength = np.where(distance > tolerance, 0.25 + 0.75 * strength, 0.0)[:, None]
    side = np.where((signed > 0)[:, None], rgb(worn.teal), rgb(worn.plum))
    within = rgb(worn.bisque)
    colours = within + strength * (side - within)
    return np.where(np.isnan(signed)[:, None], rgb(worn.unmeasured), colours)


def spot_colours(spots: Spots, signed: Floats, tolerance: float, full: float) -> np.ndarray:
    """Return the colours of spots, (a, b, 4) bytes: each that of the point measured there.

    What was not measured is hatched.
    """
    worn = now()
    made = _bare(spots, worn.bisque, worn.unmeasured).copy()
    # Most of a good fit is within: while a hand drags, only the rest is worked out.
    out = (spots.nearest >= 0) & (np.abs(signed) > tolerance)[spots.nearest]
    made[out, :3] = as_bytes(deviation_colours(signed[spots.nearest[out]], tolerance, full))
    return made


@lru_cache(maxsize=2)
def _bare(spots: Spots, within: str, unmeasured: str) -> np.ndarray:
    """Return the colours of spots where all that was measured is within tolerance."""
    inside, blank = np.array(rgb(within)), np.array(rgb(unmeasured))
    made = np.full((*spots.nearest.shape, 4), 255, dtype=np.uint8)
    made[..., :3] = as_bytes(inside)
    past = spots.nearest < 0
    made[past, :3] = as_bytes(blank)
    made[past & spots.striped, :3] = as_bytes(HATCH * blank + (1 - HATCH) * inside)
    return made


def as_bytes(colours: Floats) -> np.ndarray:
    return np.clip(np.round(colours * 255), 0, 255).astype(np.uint8)
