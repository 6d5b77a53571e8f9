"""Sides that are followed or straight: the default does as well as the better of both."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np
import pytest

from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.fit.cast import Cast, cast
from usual_clay.core.fit.parameterize.frame import FRAMES
from usual_clay.core.fit.parameterize.region import CastSettings
from usual_clay.core.fit.search.budget import to_tolerance
from usual_clay.core.scan.sample import Sample
from usual_clay.core.spline.surface import surface_normals

Outline = Callable[[np.ndarray, np.ndarray], np.ndarray]
Height = Callable[[np.ndarray, np.ndarray], np.ndarray]


def rolling(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    return 3 * np.sin(x / 25) * np.cos(y / 30) + 0.002 * x * y


def round_top(x: np.ndarray, y: np.ndarray) -> np.ndarray:
    return np.sqrt(np.maximum(30**2 - x**2 - y**2, 1.0))


SHAPES: dict[str, tuple[tuple[float, float], Outline, Height]] = {
    "whole": ((80, 50), lambda x, y: x > -99, rolling),
    "L": ((80, 50), lambda x, y: (x < -10) | (y < -5), rolling),
    "ring": ((50, 50), lambda x, y: (np.hypot(x, y) < 25) & (np.hypot(x, y) > 12), rolling),
    "star": (
        (50, 50), lambda x, y: np.hypot(x, y) < 14 + 9 * np.cos(5 * np.arctan2(y, x)), rolling
    ),
    "disc": ((50, 50), lambda x, y: np.hypot(x, y) < 24, rolling),
    "dome": ((50, 50), lambda x, y: np.hypot(x, y) < 24, round_top),
    "wedge": ((80, 50), lambda x, y: np.abs(y) < 24 - 0.2 * (x + 40), rolling),
}  # fmt: skip


def measured(name: str, count: int = 8_000) -> Sample:
    size, outline, height = SHAPES[name]
    random = np.random.default_rng(5)
    x, y = random.uniform(-0.5, 0.5, (2, 4 * count)) * np.array(size)[:, None]
    inside = outline(x, y)
    x, y, step = x[inside][:count], y[inside][:count], 1e-4
    z = height(x, y)
    slopes = [(height(x + step, y) - z) / step, (height(x, y + step) - z) / step]
    normals = np.column_stack([-slopes[0], -slopes[1], np.ones(len(x))])
    normals /= np.linalg.norm(normals, axis=1)[:, None]
    noise = normals * random.normal(0, 0.01, len(x))[:, None]
    return Sample(np.column_stack([x, y, z]) + noise, normals)


def turn(made: Cast) -> float:
    """The greatest angle between normals of neighbouring cells that hold points, degrees."""
    at = (np.arange(40) + 0.5) / 40
    u, v = (part.ravel() for part in np.meshgrid(at, at, indexing="ij"))
    n = surface_normals(made.surface, u, v).reshape(40, 40, 3)
    filled = np.histogram2d(made.feet.u, made.feet.v, 40, [[0, 1], [0, 1]])[0] > 0
    along = (n[1:] * n[:-1]).sum(axis=2)[filled[1:] & filled[:-1]]
    across = (n[:, 1:] * n[:, :-1]).sum(axis=2)[filled[:, 1:] & filled[:, :-1]]
    return float(np.degrees(np.arccos(np.clip(min(along.min(), across.min()), -1, 1))))


@pytest.mark.parametrize("name", SHAPES)
def test_the_default_is_as_lean_as_the_better_choice_and_does_not_turn_over(
    name: str,
) -> None:
    sample, tolerance = measured(name), Tolerance(0.03)
    plain = CastSettings(reach=0.1, smoothness=0.1, knots="adaptive")
    spent = {}
    for sides in ("best", "follow", "straight"):
        found = to_tolerance(sample, replace(plain, sides=sides), tolerance)
        assert found.cast is not None
        met = np.quantile(np.abs(found.cast.feet.signed), 0.95) <= tolerance.deviation
        spent[sides] = found.settings.nu * found.settings.nv if met else np.inf
        if sides == "best":
            assert met
            assert turn(found.cast) < 60
    assert spent["best"] <= 1.1 * min(spent.values())


def test_the_same_is_chosen_however_it_is_asked() -> None:
    sample = measured("L")
    settings = CastSettings(nu=8, nv=6, reach=0.1, smoothness=0.1)
    made = {
        s: cast(sample, replace(settings, sides=s)).surface.points for s in ("best", "straight")
    }
    assert np.array_equal(made["best"], made["straight"])


def turned(height: Callable[[np.ndarray], np.ndarray], angle: float) -> Height:
    along, across = np.cos(np.radians(angle)), np.sin(np.radians(angle))
    return lambda x, y: height(along * x + across * y)


def spent_on(sample: Sample, settings: CastSettings) -> tuple[int, bool]:
    found = to_tolerance(sample, settings, Tolerance(0.03))
    assert found.report is not None
    return found.settings.nu * found.settings.nv, found.report.met


@pytest.mark.parametrize(("outline", "angle"), [("disc", 70)])
def test_a_region_that_bends_aslant_of_its_outline_is_laid_along_its_bend(
    outline: str, angle: float, monkeypatch: pytest.MonkeyPatch
) -> None:
    size, inside, _ = SHAPES[outline]
    shape = size, inside, turned(lambda t: 4 * np.exp(-((t / 8) ** 2)), angle)
    monkeypatch.setitem(SHAPES, "aslant", shape)
    spent = {
        frame: spent_on(measured("aslant"), CastSettings(knots="adaptive", frame=frame))
        for frame in FRAMES[:3]
    }
    assert all(met for _, met in spent.values()), spent
    assert spent["best"][0] <= 1.1 * min(spent["outline"][0], spent["bend"][0])
    assert spent["bend"][0] <= 0.85 * spent["outline"][0], spent


def test_waves_one_way_take_no_control_points_the_other_way(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    size, inside, _ = SHAPES["whole"]
    waves = turned(lambda t: 2 * np.sin(t * (2 * np.pi * 4 / 80)), 0)
    monkeypatch.setitem(SHAPES, "waves", (size, inside, waves))
    found = to_tolerance(measured("waves", 5_000), CastSettings(knots="adaptive"), Tolerance(0.03))
    assert found.report is not None
    assert found.report.met
    assert found.settings.nv == 4
    assert found.settings.nu <= 16


@pytest.mark.parametrize("angle", [0.0, 18.0])
def test_waves_as_fine_as_the_points_can_tell_are_no_noise(
    monkeypatch: pytest.MonkeyPatch, angle: float
) -> None:
    """A tight bend looked like noise, and lines that had to bend with it cost more than it."""
    waves = turned(lambda t: 2.05 * np.cos(2 * np.pi * t / 9), angle)
    monkeypatch.setitem(SHAPES, "fine", ((60, 60), SHAPES["whole"][1], waves))
    sample = measured("fine", 10_000)
    assert sample.noise == pytest.approx(0.01, rel=0.35)
    found = to_tolerance(sample, CastSettings(knots="adaptive"), Tolerance(0.05))
    assert found.report is not None
    assert found.report.met, found.words
    assert found.settings.nu * found.settings.nv <= 90
