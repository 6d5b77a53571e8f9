"""The lure's point lists: a probed outline with slips, and a belly line of loose points."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from scipy.spatial import cKDTree

from usual_clay.core.arrays import Bools, Floats
from usual_clay.demo.shape import body, profile, slope_of

BALL = 3.0
PROBE_NOISE = 0.008
STEP = 0.7


def true_outline(step: float = 0.02) -> Floats:
    """Return the centre-plane outline of the body, (n, 3), from the nose over the back.

    The slot and the holes are left out: a probe's ball does not follow them.
    """
    turn = np.linspace(0, 2 * np.pi, round(2 * np.pi * 60 / step), endpoint=False)
    x = 48 * (1 - np.cos(turn))
    _, back, belly, centre = profile(x)
    z = centre + np.where(np.sin(turn) >= 0, back, -belly) * np.where(np.sin(turn) == 0, 0, 1)
    points = np.stack([x, np.zeros_like(x), z], axis=1)
    for _ in range(4):
        slope = slope_of(body, points)
        length = np.maximum((slope**2).sum(axis=1, keepdims=True), 0.25)
        points -= body(points)[:, None] * slope / length
    return points


def outline_centres(ball: float, step: float) -> Floats:
    """Return centres of a ball that touches the outline all along, `step` mm apart, (n, 3)."""
    outline = true_outline()
    normal = slope_of(body, outline)
    normal[:, 1] = 0.0
    normal /= np.linalg.norm(normal, axis=1, keepdims=True)
    centres = outline + ball / 2 * normal
    away = cKDTree(outline[:, [0, 2]]).query(centres[:, [0, 2]])[0]
    centres = centres[away > ball / 2 - 0.01]
    length = np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(centres, axis=0), axis=1))])
    at = np.searchsorted(length, np.arange(0, length[-1], step))
    return centres[np.minimum(at, len(centres) - 1)].copy()


def probed_outline() -> tuple[Floats, Bools]:
    """Return the ball's centres along the outline, (n, 3), and which of them slipped."""
    run = outline_centres(BALL, STEP)
    random = np.random.default_rng(96)
    run[:, [0, 2]] += random.normal(0, PROBE_NOISE, (len(run), 2))
    slipped = np.zeros(len(run), dtype=bool)
    for start, many in ((40, 3), (120, 1), (190, 4), (270, 2)):
        slipped[start : start + many] = True
    push = random.uniform(0.35, 0.9, (slipped.sum(), 1))
    middle = np.array([48.0, 0.0, 0.0])
    out = run[slipped] - middle
    run[slipped] += push * out / np.linalg.norm(out, axis=1, keepdims=True)
    return run, slipped


def belly_line() -> Floats:
    """Return loose points on the belly, in no order, (n, 3)."""
    random = np.random.default_rng(7)
    x = random.uniform(12, 88, 160)
    _, _, belly, centre = profile(x)
    points = np.stack([x, np.zeros_like(x), centre - belly], axis=1)
    return points + random.normal(0, PROBE_NOISE, points.shape)


def write_point_lists(folder: Path) -> tuple[Path, Path]:
    """Write the outline as CSV and the belly line as a spreadsheet; return their paths."""
    import openpyxl

    outline, _ = probed_outline()
    first, second = folder / "centre-outline.csv", folder / "belly-line.xlsx"
    np.savetxt(first, outline[:, [0, 2]], "%.4f", ",", header="x [mm],z [mm]", comments="")
    book = openpyxl.Workbook()
    sheet = book.active
    sheet.title = "Belly"
    sheet.append(["x", "y", "z"])
    for row in np.round(belly_line(), 4).tolist():
        sheet.append(row)
    book.save(second)
    return first, second
