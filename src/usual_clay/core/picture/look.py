"""How a picture is shown: brightness, contrast, and a background that becomes clear."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

Depth = Literal["under", "in place", "over"]


@dataclass(frozen=True)
class Look:
    """How a picture is shown.

    Attributes
    ----------
    opacity : float
        0, not seen, to 1, not seen through.
    brightness, contrast : float
        -1 to 1; 0 leaves the picture as it is.
    clear : (r, g, b) or None
        The background's colour, 0 to 255, that becomes clear.
    margin : float
        How far colours may be from it, as a share of the way from black to white, and still
        be clear; over the next such stretch they fade in.
    depth : {"under", "in place", "over"}
        Drawn under the model, among it where it lies, or over it.
    """

    opacity: float = 0.7
    brightness: float = 0.0
    contrast: float = 0.0
    clear: tuple[int, int, int] | None = None
    margin: float = 0.12
    depth: Depth = "in place"


def dressed(pixels: np.ndarray, look: Look) -> np.ndarray:
    """Return a picture's pixels, (h, w, 3 or 4) bytes, as shown, (h, w, 4) bytes."""
    colours = pixels[..., :3].astype(np.float32) / 255
    alpha = np.full(pixels.shape[:2], look.opacity, dtype=np.float32)
    if pixels.shape[2] == 4:
        alpha *= pixels[..., 3].astype(np.float32) / 255
    if look.clear is not None:
        away = distance_to(pixels, look.clear)
        margin = max(look.margin, 1e-3)
        alpha *= np.clip(away / margin - 1, 0, 1)
    # A gain about the middle grey; at the ends of the slider flat grey and four times as steep.
    gain = 4.0**look.contrast if look.contrast >= 0 else 1 + look.contrast
    colours = np.clip((colours - 0.5) * gain + 0.5 + look.brightness, 0, 1)
    return np.rint(np.dstack([colours, alpha]) * 255).astype(np.uint8)


def distance_to(pixels: np.ndarray, colour: tuple[int, int, int]) -> np.ndarray:
    """Return how far each pixel is from a colour, 0 to 1 for black to white, (h, w)."""
    away = pixels[..., :3].astype(np.float32) - np.asarray(colour, dtype=np.float32)
    return np.sqrt((away**2).mean(axis=2)) / 255


def border_colour(pixels: np.ndarray) -> tuple[int, int, int]:
    """Return the usual colour along a picture's border: most likely its background."""
    edge = np.concatenate([pixels[0], pixels[-1], pixels[:, 0], pixels[:, -1]])[:, :3]
    r, g, b = np.median(edge, axis=0).astype(int)
    return int(r), int(g), int(b)
