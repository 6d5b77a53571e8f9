"""The lure's pictures: side, top and front, each with a printed scale bar and its own fault."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
import scipy
from PIL import Image, ImageDraw, ImageFont

from usual_clay.core.arrays import Floats
from usual_clay.core.picture.placement import TRUE_PLANES, Placement, scaled_by_marks
from usual_clay.core.scan.closest import MeshTree
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.demo.shape import BOX

# Pixels in a mm, and rays in a pixel's side.
PER_MM, FINE = 10, 2
MARGIN = 12.0
TOP_SHRINK = 0.98
SIDE_TURN = np.radians(1.5)
PAPER, INK, WOOD = (244, 240, 231), (52, 48, 44), np.array([196.0, 170.0, 136.0])
FONT = Path(__file__).parents[1] / "bench" / "theme" / "fonts" / "Inter-Medium.otf"
FILES = {"side": "lure-side.png", "top": "lure-top.jpg", "front": "lure-front.png"}


@dataclass(frozen=True, eq=False)
class Drawn:
    """A picture with what tests and the demo job may know of it.

    Attributes
    ----------
    pixels : (h, w, 3) bytes
    bar : (2, 2) array
        The ends of the printed bar, in pixels.
    length : float
        What the bar says, mm.
    middle : (2,) array
        Where the middle of the picture is on its plane, mm, before any fault.
    """

    pixels: np.ndarray
    bar: Floats
    length: float
    middle: Floats


def draw_picture(name: str, mesh: TriangleMesh) -> Drawn:
    """Draw the lure as one of the true views shows it."""
    plane = TRUE_PLANES[name]
    across, up = np.array(plane.across), np.array(plane.up)
    ends = np.sort(np.stack([BOX @ across, BOX @ up], axis=1), axis=0)
    middle, extent = ends.mean(axis=0), np.ptp(ends, axis=0) + 2 * MARGIN
    extent[1] += MARGIN
    middle = middle - [0, MARGIN / 2]
    size = (round(extent[0] * PER_MM), round(extent[1] * PER_MM))
    shrink = TOP_SHRINK if name == "top" else 1.0
    pixels = _shaded(mesh, plane.normal, across, up, middle, size, shrink)
    length = 50.0 if size[0] > 700 else 20.0
    bar = _print_bar(pixels, size, length, name)
    canvas = np.array(pixels, dtype=np.float64)
    if name == "side":
        canvas, bar = _turned(canvas, bar)
    grain = np.random.default_rng(len(name)).normal(0, 2.2, canvas.shape[:2])
    canvas += scipy.ndimage.gaussian_filter(grain, 0.8)[..., None]
    return Drawn(np.clip(np.rint(canvas), 0, 255).astype(np.uint8), bar, length, middle)


def _shaded(
    mesh: TriangleMesh,
    normal: Floats,
    across: Floats,
    up: Floats,
    middle: Floats,
    size: tuple[int, int],
    shrink: float,
) -> Image.Image:
    """Cast a ray for each fine pixel and shade what it meets."""
    columns = ((np.arange(size[0] * FINE) + 0.5) / FINE - size[0] / 2) / PER_MM
    rows = (size[1] / 2 - (np.arange(size[1] * FINE) + 0.5) / FINE) / PER_MM
    # The lure is drawn smaller about the middle of its own box, not of the paper.
    centre = np.array([0.0, MARGIN / 2])
    x = (columns - centre[0]) / shrink + centre[0] + middle[0]
    y = (rows - centre[1]) / shrink + centre[1] + middle[1]
    ends = np.sort(np.stack([mesh.box @ across, mesh.box @ up], axis=1), axis=0)
    inside = [(v >= ends[0, k]) & (v <= ends[1, k]) for k, v in enumerate((x, y))]
    grid_x, grid_y = np.meshgrid(x[inside[0]], y[inside[1]])
    start = grid_x.reshape(-1, 1) * across + grid_y.reshape(-1, 1) * up + 120.0 * normal
    triangle, distance = MeshTree(mesh.vertices, mesh.triangles).first_hits(start, -normal)
    hit = triangle >= 0
    colour = np.tile(np.array(PAPER, dtype=np.float64), (len(start), 1))
    slope = mesh.normals_at(triangle[hit], start[hit] - distance[hit, None] * normal)
    light = 0.55 * normal + 0.5 * up - 0.35 * across
    bright = 0.50 + 0.50 * np.clip(slope @ (light / np.linalg.norm(light)), 0, 1)
    rim = np.clip(np.abs(slope @ normal) / 0.3, 0.25, 1.0)
    colour[hit] = WOOD * (bright * rim)[:, None]
    paper = np.tile(np.array(PAPER, dtype=np.float64), (len(y), len(x), 1))
    paper[np.ix_(inside[1], inside[0])] = colour.reshape(*grid_x.shape, 3)
    fine = paper.reshape(size[1], FINE, size[0], FINE, 3).mean(axis=(1, 3))
    return Image.fromarray(np.rint(fine).astype(np.uint8))


def _print_bar(picture: Image.Image, size: tuple[int, int], length: float, name: str) -> Floats:
    """Print a scale bar and the view's name on the paper; return the bar's ends."""
    draw = ImageDraw.Draw(picture)
    left, foot = MARGIN * PER_MM * 0.6, size[1] - MARGIN * PER_MM * 0.55
    right = left + length * PER_MM
    draw.rectangle((left, foot - 2, right - 1, foot + 1), fill=INK)
    for end in (left, right - 2):
        draw.rectangle((end, foot - 11, end + 1, foot + 10), fill=INK)
    font = ImageFont.truetype(str(FONT), 26)
    draw.text((left, foot - 44), f"{length:g} mm", fill=INK, font=font)
    draw.text((left, 24), f"Brackwater lure, {name}", fill=INK, font=font)
    return np.array([[left, foot], [right, foot]])


def _turned(canvas: Floats, bar: Floats) -> tuple[Floats, Floats]:
    """Turn a picture on its paper, as a hand lays it on a scanner; counter-clockwise."""
    from skimage.transform import rotate

    made = rotate(
        canvas / 255, np.degrees(SIDE_TURN), order=3, mode="constant", cval=PAPER[0] / 255
    ).clip(0, 1)
    outside = rotate(np.zeros(canvas.shape[:2]), np.degrees(SIDE_TURN), cval=1.0, order=1) > 0.5
    made[outside] = np.array(PAPER) / 255
    middle = np.array([canvas.shape[1], canvas.shape[0]]) / 2
    c, s = np.cos(SIDE_TURN), np.sin(SIDE_TURN)
    away = bar - middle
    # Rows go down: counter-clockwise on the paper is this way round in pixels.
    turned = np.stack([c * away[:, 0] + s * away[:, 1], c * away[:, 1] - s * away[:, 0]], axis=1)
    return made * 255, turned + middle


def pinned(name: str, drawn: Drawn) -> Placement:
    """Return a picture pinned to its plane and scaled by its printed bar, faults and all."""
    size = (drawn.pixels.shape[1], drawn.pixels.shape[0])
    rough = Placement(TRUE_PLANES[name], 100.0, 100.0 * size[1] / size[0])
    scaled = scaled_by_marks(rough, size, drawn.bar[0], drawn.bar[1], drawn.length)
    x, y = drawn.middle
    return Placement(scaled.plane, scaled.width, scaled.height, float(x), float(y))


def write_pictures(folder: Path, mesh: TriangleMesh) -> dict[str, tuple[Path, Drawn]]:
    """Write the three pictures; return their files and what is known of them."""
    made = {}
    for name, file in FILES.items():
        drawn = draw_picture(name, mesh)
        Image.fromarray(drawn.pixels).save(folder / file, quality=94)
        made[name] = (folder / file, drawn)
    return made
