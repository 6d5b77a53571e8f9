"""A small picture of a scan that is not taken in yet: its points as dots, the nearest on top."""

from __future__ import annotations

import numpy as np
from PySide6.QtGui import QImage

from usual_clay.bench.stage.colours import as_bytes
from usual_clay.bench.theme.theme import now, rgb
from usual_clay.core.arrays import Floats

# So many points are drawn at most, over this share of the picture, seen so far from above, radians.
MOST, FILLED, ABOVE = 150_000, 0.9, np.radians(25.0)
# Dots are so large, pixels, that what lies close together has no holes.
LEAST, LARGEST = 1, 5
DARK = 0.35


def scan_picture(points: Floats, normals: Floats | None, width: int, height: int) -> QImage:
    """Return a picture of a scan, its longest side level.

    Parameters
    ----------
    points : (n, 3) array
    normals : (n, 3) array or None
        Of length 1; without them nearness alone shades it.
    """
    part = slice(None, None, max(1, len(points) // MOST))
    own = points[part] - points[part].mean(axis=0)
    axes = np.linalg.svd(own[:: max(1, len(own) // 5000)], full_matrices=False)[2]
    # Up is up there too, as far as it can be told.
    axes[1] *= 1.0 if axes[1, int(np.argmax(np.abs(axes[1])))] > 0 else -1.0
    axes[2] = np.cross(axes[0], axes[1])
    up = np.cos(ABOVE) * axes[1] - np.sin(ABOVE) * axes[2]
    sight = -np.cos(ABOVE) * axes[2] - np.sin(ABOVE) * axes[1]
    x, y, depth = own @ axes[0], own @ up, own @ sight
    spans = max(float(np.ptp(x)) / width, float(np.ptp(y)) / height, 1e-300)
    column = width / 2 + FILLED * (x - (x.max() + x.min()) / 2) / spans
    row = height / 2 - FILLED * (y - (y.max() + y.min()) / 2) / spans
    if normals is None:
        far = (depth - depth.min()) / max(float(np.ptp(depth)), 1e-300)
        light = 1.0 - far
    else:
        light = np.abs(normals[part] @ sight)
    shade = DARK + (1 - DARK) * light
    dot = int(np.clip(np.ceil(np.sqrt(width * height / len(own))), LEAST, LARGEST))
    steps = np.stack(np.meshgrid(np.arange(dot), np.arange(dot)), axis=-1).reshape(-1, 2)
    place = np.stack([column, row], axis=1).astype(int)[:, None] + steps
    place = np.clip(place, 0, (width - 1, height - 1))
    picture = np.empty((height, width, 3), dtype=np.uint8)
    picture[:] = as_bytes(rgb(now().stage_top))
    # What is drawn later lies over what was drawn before.
    order = np.argsort(-depth)
    colours = as_bytes(shade[order, None] * rgb(now().scan))
    picture[place[order, :, 1], place[order, :, 0]] = colours[:, None]
    return QImage(picture.data, width, height, 3 * width, QImage.Format.Format_RGB888).copy()
