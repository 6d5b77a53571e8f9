"""Pictures: placed, squared up, outlined and compared, against pictures that are known exactly."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from tests.shapes import SPECK
from usual_clay.core.picture.agreement import Difference, Reference, agreement
from usual_clay.core.picture.look import Look, border_colour, dressed
from usual_clay.core.picture.outline import (
    OutlineError,
    OutlineSettings,
    edge_along,
    find_outline,
    silhouette,
)
from usual_clay.core.picture.placement import (
    TRUE_PLANES,
    Placement,
    PlacementError,
    corners,
    fitted_to,
    from_space,
    scaled_about,
    scaled_by_marks,
    to_flat,
    to_pixels,
    to_space,
    turned_about,
)
from usual_clay.core.picture.square_up import checked_corners, square_up
from usual_clay.demo.make import demo_folder, demo_job_file
from usual_clay.demo.pictures import FILES, SIDE_TURN, TOP_SHRINK, draw_picture, pinned
from usual_clay.demo.shape import LENGTH

SIZE = (400, 300)


def disc(centre: tuple[float, float], radius: float, soft: float = 0.7) -> np.ndarray:
    """A dark disc on light paper, its edge as soft as a lens makes it."""
    y, x = np.mgrid[: SIZE[1], : SIZE[0]] + 0.5
    away = np.hypot(x - centre[0], y - centre[1]) - radius
    grey = 225 - 180 / (1 + np.exp(away / soft * 2.5))
    return np.rint(np.repeat(grey[..., None], 3, axis=2)).astype(np.uint8)


# ---- placing ---------------------------------------------------------------------------------


@given(
    st.sampled_from(sorted(TRUE_PLANES)),
    st.floats(-200, 200),
    st.floats(-3, 3),
    st.floats(1, 900),
    st.booleans(),
)
def test_pixels_go_to_space_and_back(
    name: str, x: float, turn: float, width: float, mirrored: bool
) -> None:
    placed = Placement(TRUE_PLANES[name], width, 0.75 * width, x, -x / 3, turn, 12.5, mirrored)
    pixels = np.array([[0.0, 0], [400, 0], [399, 1], [13.2, 280]])
    flat = to_flat(placed, SIZE, pixels)
    space = to_space(placed, flat)
    assert from_space(placed, space) == pytest.approx(flat, abs=1e-9)
    assert to_pixels(placed, SIZE, flat) == pytest.approx(pixels, abs=1e-8)
    assert space @ placed.plane.normal == pytest.approx(np.full(4, 12.5))
    # Lengths on the plane are those in space, and pixels are square.
    across, down = np.linalg.norm(flat[1] - flat[0]), np.linalg.norm(corners(placed)[3] - space[0])
    assert across == pytest.approx(width)
    assert down == pytest.approx(0.75 * width)


def test_planes_show_what_their_views_see() -> None:
    for name, towards in (
        ("side", (0, -1, 0)),
        ("top", (0, 0, 1)),
        ("front", (-1, 0, 0)),
        ("rear", (1, 0, 0)),
    ):
        assert TRUE_PLANES[name].normal == pytest.approx(towards)


def test_two_marks_and_a_length_set_the_scale() -> None:
    placed = Placement(width=80.0, height=60.0, x=7, turn=0.3)
    marks = np.array([[100.0, 250], [300, 260]])
    scaled = scaled_by_marks(placed, SIZE, *marks, 50.0)
    flat = to_flat(scaled, SIZE, marks)
    assert np.linalg.norm(flat[1] - flat[0]) == pytest.approx(50)
    # Their middle has stayed, and so has the picture's shape.
    assert flat.mean(axis=0) == pytest.approx(to_flat(placed, SIZE, marks).mean(axis=0))
    assert scaled.height / scaled.width == pytest.approx(0.75)
    assert scaled.turn == placed.turn
    with pytest.raises(PlacementError, match="same spot"):
        scaled_by_marks(placed, SIZE, marks[0], marks[0] + 0.1, 50.0)
    for length in (0.0, -3.0, np.nan):
        with pytest.raises(PlacementError, match="more than 0"):
            scaled_by_marks(placed, SIZE, *marks, length)
    for wrong in ({"width": 0.0}, {"x": np.inf}):
        with pytest.raises(PlacementError):
            replace(placed, **wrong)


def test_scaling_and_turning_leave_their_centre_alone() -> None:
    placed = Placement(TRUE_PLANES["front"], 80, 60, 3, 4, 0.2)
    about = np.array([11.0, -5.0])
    pixel = to_pixels(placed, SIZE, about[None])
    for made in (scaled_about(placed, 1.7, about), turned_about(placed, 1.1, about)):
        assert to_pixels(made, SIZE, about[None]) == pytest.approx(pixel)
    assert turned_about(placed, 1.1, about).turn == pytest.approx(1.3)
    assert fitted_to(placed, SIZE, height=30).width == pytest.approx(40)
    assert fitted_to(placed, SIZE, width=80).height == pytest.approx(60)


# ---- squaring up -----------------------------------------------------------------------------


def photographed(homography: np.ndarray) -> np.ndarray:
    """A 100 x 60 mm card with round dots every 20 mm, seen through a homography."""
    y, x = np.mgrid[:600, :800] + 0.5
    back = np.linalg.inv(homography)
    u, v, w = np.einsum("ij,jhw->ihw", back, np.stack([x, y, np.ones_like(x)]))
    u, v = u / w, v / w
    grey = np.full(x.shape, 90.0)
    grey[(u >= 0) & (u <= 100) & (v >= 0) & (v <= 60)] = 235
    for dot_x in range(20, 100, 20):
        for dot_y in range(20, 60, 20):
            grey[np.hypot(u - dot_x, v - dot_y) < 3] = 30
    return np.repeat(grey[..., None], 3, axis=2).astype(np.uint8)


def test_a_photographed_card_is_squared_up() -> None:
    homography = np.array([[5.6, 0.9, 120], [-0.5, 6.1, 110], [0.0011, 0.0024, 1]])
    card = np.array([[0.0, 0], [100, 0], [100, 60], [0, 60]])
    seen = np.column_stack([card, np.ones(4)]) @ homography.T
    seen = seen[:, :2] / seen[:, 2:]
    squared = square_up(photographed(homography), seen[[2, 3, 0, 1]], 100, 60)
    height, width = squared.pixels.shape[:2]
    per_mm = width / squared.width
    assert height / squared.height == pytest.approx(per_mm, rel=1e-3)
    # The dots are where they are on the card, 20 mm apart, to a fifth of a pixel.
    from scipy import ndimage

    dots, count = ndimage.label(squared.pixels[..., 0] < 60)
    middles = np.array(ndimage.center_of_mass(dots > 0, dots, range(1, count + 1)))
    sizes = ndimage.sum_labels(np.ones_like(dots), dots, range(1, count + 1))
    middles = middles[sizes > 0.5 * np.pi * (3 * per_mm) ** 2]
    assert len(middles) == 8
    rows = np.unique(np.round(middles[:, 0] / per_mm / 20))
    assert len(rows) == 2
    steps = np.diff(np.sort(middles[np.argsort(middles[:, 0])[:4], 1])) / per_mm
    assert steps == pytest.approx(np.full(3, 20), abs=0.2 / per_mm)


def test_corners_that_make_no_rectangle_are_refused() -> None:
    square = np.array([[10.0, 10], [90, 12], [88, 70], [9, 66]])
    for order in ([0, 1, 2, 3], [2, 3, 0, 1], [3, 2, 1, 0]):
        assert np.array_equal(checked_corners(square[order]), square)
    with pytest.raises(PlacementError, match="cross"):
        checked_corners(square[[0, 2, 1, 3]])
    with pytest.raises(PlacementError, match="on a line"):
        checked_corners(np.array([[0.0, 0], [50, 0], [100, 0], [50, 80]]))
    with pytest.raises(PlacementError, match="four corners"):
        checked_corners(square[:3])
    with pytest.raises(PlacementError, match="more than 0"):
        square_up(np.zeros((9, 9, 3), np.uint8), square, 0, 10)


# ---- looks and outlines ----------------------------------------------------------------------


def test_a_background_becomes_clear_with_a_soft_margin() -> None:
    pixels = disc((200, 150), 60)
    assert border_colour(pixels) == (225, 225, 225)
    plain = dressed(pixels, Look(opacity=0.5))
    assert (plain[..., 3] == 128).all()
    assert np.array_equal(plain[..., :3], pixels)
    clear = dressed(pixels, Look(opacity=1.0, clear=(225, 225, 225), margin=0.1))
    assert clear[5, 5, 3] == 0
    assert clear[150, 200, 3] == 255
    edge = clear[150, 255:268, 3]
    assert ((edge > 0) & (edge < 255)).any()
    assert (np.diff(edge.astype(int)) <= 0).all()
    lighter, harder = (dressed(pixels, Look(**{k: 0.3})) for k in ("brightness", "contrast"))
    assert lighter[150, 200, 0] > pixels[150, 200, 0]
    assert np.ptp(harder[..., 0].astype(int)) > np.ptp(pixels[..., 0].astype(int))
    flat = dressed(pixels, Look(contrast=-1.0))
    assert np.ptp(flat[..., 0].astype(int)) == 0


def test_outlines_are_finer_than_pixels() -> None:
    centre, radius = (201.3, 148.8), 72.4
    pixels = disc(centre, radius)
    found = silhouette(pixels)
    assert found.closed
    away = np.linalg.norm(found.pixels - centre, axis=1)
    assert np.abs(away - radius).max() < 0.15
    # Along a stroke that a hand draws, wavy and up to 6 pixels off.
    turn = np.linspace(0.2, 2.4, 40)
    stroke = np.array(centre) + (radius + 5 * np.sin(5 * turn))[:, None] * np.stack(
        [np.cos(turn), np.sin(turn)], axis=1
    )
    edge = edge_along(pixels, stroke, 12)
    assert not edge.closed
    off = np.linalg.norm(edge.pixels - centre, axis=1) - radius
    assert np.quantile(np.abs(off), 0.95) < 0.1
    whole = np.linspace(0, 2 * np.pi, 60)
    ring = np.array(centre) + 70 * np.stack([np.cos(whole), np.sin(whole)], axis=1)
    settings = OutlineSettings("edge", stroke=tuple(map(tuple, ring)), reach=10)
    assert find_outline(pixels, settings).closed


def test_pictures_without_an_outline_say_so() -> None:
    paper = np.full((80, 90, 3), 200, np.uint8)
    with pytest.raises(OutlineError, match="stands out"):
        silhouette(paper)
    with pytest.raises(OutlineError, match="no edge"):
        edge_along(paper, np.array([[10.0, 10], [70, 60]]), 8)
    with pytest.raises(OutlineError, match="too short"):
        edge_along(disc((200, 150), 60), np.array([[10.0, 10], [12, 10]]), 8)


# ---- agreement -------------------------------------------------------------------------------


def egg(scale: float = 1.0, turn: float = 0.0, shift: tuple[float, float] = (0, 0)) -> np.ndarray:
    """An outline without a mirror axis, 90 by 30 or so, (n, 2)."""
    t = np.linspace(0, 2 * np.pi, 700, endpoint=False)
    flat = np.stack([45 * np.cos(t) + 4 * np.cos(2 * t + 0.7), 15 * np.sin(t) + 2 * np.sin(3 * t)])
    c, s = np.cos(turn), np.sin(turn)
    return scale * flat.T @ np.array([[c, s], [-s, c]]) + shift


def placed(name: str, flat: np.ndarray, axes: tuple[int, int], movable: bool = True) -> Reference:
    outline = np.zeros((len(flat), 3))
    outline[:, axes] = flat
    return Reference(name, name.title(), outline, axes, movable)


def one(found: list[Difference], kind: str, first: str) -> Difference:
    return next(d for d in found if d.kind == kind and d.first == first and d.matters)


def test_contradictions_are_found_with_their_amounts() -> None:
    true = placed("run", egg(), (0, 2), movable=False)
    small = placed("small", egg(0.97), (0, 2))
    turned = placed("turned", egg(turn=np.radians(2)), (0, 2))
    lower = placed("lower", egg(shift=(0, -1.5)), (0, 2))
    found = agreement([small, turned, lower, true])
    size = one(found, "size", "small")
    assert size.amount == pytest.approx(1 / 0.97, rel=1e-6)
    assert "Small is 3.0 %" in size.words
    assert "smaller" in size.words
    turn = next(d for d in found if d.kind == "turn" and {d.first, d.second} == {"turned", "run"})
    assert np.degrees(turn.amount) == pytest.approx(-2, abs=1e-6)
    place = next(d for d in found if d.kind == "place" and d.matters and d.second == "run")
    assert (place.axis, place.amount) == (2, pytest.approx(1.5))
    assert "below" in place.words
    same = agreement([placed("one", egg(), (0, 2)), true])
    assert same
    assert not any(d.matters for d in same)


def test_views_are_compared_along_the_axis_they_share() -> None:
    side = placed("side", egg(), (0, 2))
    top = placed("top", 0.98 * np.stack([egg()[:, 0], 0.4 * egg()[:, 1]], axis=1), (0, 1))
    size = next(d for d in agreement([side, top]) if d.kind == "size" and d.matters)
    assert size.axis == 0
    assert "2.0 %" in size.words
    assert "along x" in size.words
    # A third reference tells which of two is off: it is named first.
    run = placed("run", egg(), (0, 2), movable=False)
    blamed = [d.first for d in agreement([side, top, run]) if d.kind == "size" and d.matters]
    assert blamed == ["top", "top"]


def test_a_picture_scaled_by_a_known_length_is_not_rescaled_to_another_picture() -> None:
    plain, known = placed("plain", 1.3 * egg(), (0, 2)), placed("known", egg(), (0, 2))
    known = replace(known, scaled=True)
    for pair in ([plain, known], [known, plain]):
        (size,) = (d for d in agreement(pair) if d.kind == "size")
        assert (size.first, size.mends) == ("plain", True)
        assert size.amount == pytest.approx(1 / 1.3, rel=0.01)
    (size,) = (d for d in agreement([replace(plain, scaled=True), known]) if d.kind == "size")
    assert size.matters
    assert not size.mends
    # What was measured is surer than a length that was typed.
    (size,) = (
        d for d in agreement([known, placed("run", 1.3 * egg(), (0, 2), False)]) if d.kind == "size"
    )
    assert (size.first, size.mends) == ("known", True)


def test_a_mirror_image_tells_its_own_turn() -> None:
    t = np.linspace(0, 2 * np.pi, 500, endpoint=False)
    fish = np.stack([40 * np.cos(t) + 3 * np.cos(2 * t), 12 * np.sin(t)], axis=1)
    angle = np.radians(-0.8)
    c, s = np.cos(angle), np.sin(angle)
    askew = placed("top", fish @ np.array([[c, s], [-s, c]]), (0, 1))
    (turn,) = (d for d in agreement([askew]) if d.matters)
    assert np.degrees(turn.amount) == pytest.approx(0.8, abs=0.01)
    assert "mirror image" in turn.words
    assert not agreement([placed("side", egg(), (0, 2))])


def test_the_demo_pictures_have_the_faults_they_should() -> None:
    demo_job_file()
    for name, axis, shrink in (("top", 0, TOP_SHRINK), ("side", 0, 1.0)):
        # What is known of a picture does not depend on what is drawn in it.
        drawn = draw_picture(name, SPECK)
        placement = pinned(name, drawn)
        size = (drawn.pixels.shape[1], drawn.pixels.shape[0])
        pixels = np.asarray(Image.open(demo_folder() / FILES[name]))
        # Scaled by its bar, a pixel is a tenth of a millimetre.
        assert placement.width == pytest.approx(size[0] / 10, rel=1e-6)
        line = silhouette(pixels).pixels
        space = to_space(placement, to_flat(placement, size, line))
        assert np.ptp(space[:, axis]) == pytest.approx(shrink * LENGTH, abs=0.1)
        tilt = np.arctan2(*(drawn.bar[0] - drawn.bar[1])[::-1]) - np.pi
        turn = SIDE_TURN if name == "side" else 0.0
        assert abs((tilt + np.pi) % (2 * np.pi) - np.pi) == pytest.approx(turn, abs=1e-6)
