"""Loose points: few of them, and rows of them, against the shapes that they were taken from."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest

from usual_clay.core.arrays import Floats
from usual_clay.core.check.deviation import Tolerance, judge
from usual_clay.core.errors import FitError
from usual_clay.core.fit.parameterize.between import with_guides
from usual_clay.core.fit.parameterize.lay import parameterize
from usual_clay.core.fit.parameterize.region import CastSettings
from usual_clay.core.fit.search.budget import Search, to_tolerance
from usual_clay.core.fit.solve.adaptive import grown
from usual_clay.core.fit.solve.laid import Laid
from usual_clay.core.fit.solve.slide import Start
from usual_clay.core.scan.sample import Sample, sample_of_points
from usual_clay.core.spline.closest import foot_points

Height = Callable[[Floats, Floats], Floats]

SHAPES: dict[str, Height] = {
    "bowl": lambda x, y: (x**2 + y**2) / 300,
    "saddle": lambda x, y: (x**2 - y**2) / 250,
    "cap": lambda x, y: np.sqrt(60**2 - x**2 - y**2) - 60,
    "wave": lambda x, y: 3 * np.sin(x / 12) * np.cos(y / 15),
    "ridge": lambda x, y: 4 * np.exp(-(((x - 5) / 9) ** 2)),
    "bump": lambda x, y: 3 * np.exp(-((x - 4) ** 2 + (y - 2) ** 2) / 120),
}


def taken(shape: Height, x: Floats, y: Floats, noise: float = 0.0) -> Sample:
    points = np.column_stack([x, y, shape(x, y)])
    return sample_of_points(points + np.random.default_rng(1).normal(0, noise, points.shape))


def strewn(count: int) -> tuple[Floats, Floats]:
    """A grid whose places are shifted by up to a third of a step."""
    along = round(np.sqrt(1.5 * count))
    x, y = np.meshgrid(
        np.linspace(-30, 30, along), np.linspace(-20, 20, round(count / along)), indexing="ij"
    )
    shift = 0.3 * np.sqrt(2400 / count) * np.random.default_rng(count).uniform(-1, 1, (2, x.size))
    return x.ravel() + shift[0], y.ravel() + shift[1]


def rows(count: int, each: int) -> tuple[Floats, Floats]:
    """Sections, with points close to each other along them."""
    return (
        np.repeat(np.linspace(-30, 30, count), each),
        np.tile(np.linspace(-20, 20, each), count),
    )


def off(made: Search, shape: Height) -> Floats:
    x, y = np.random.default_rng(2).uniform(-1, 1, (2, 2000)) * [[28.0], [18.0]]
    truth = np.column_stack([x, y, shape(x, y)])
    return np.abs(foot_points(made.made.surface, truth).signed)


def searched(sample: Sample) -> Search:
    return to_tolerance(sample, CastSettings(knots="adaptive"), Tolerance(0.05))


@pytest.mark.parametrize("count", [24, 60, 150])
@pytest.mark.parametrize("name", ["bowl", "saddle", "cap"])
def test_a_surface_through_few_points_is_lean_and_near_the_truth(name: str, count: int) -> None:
    made = searched(taken(SHAPES[name], *strewn(count), 0.01))
    assert made.report is not None
    assert made.report.met
    assert made.settings.nu * made.settings.nv <= 20
    assert np.quantile(off(made, SHAPES[name]), 0.95) < 0.1


def test_too_few_points_are_refused_by_what_a_surface_takes() -> None:
    few = taken(SHAPES["bowl"], *strewn(12))
    with pytest.raises(FitError, match="fewer than the 16 control points that a surface of"):
        searched(few)
    some = taken(SHAPES["bowl"], *strewn(22))
    for degree in (2, 3):
        made = to_tolerance(some, CastSettings(degree=degree), Tolerance(0.05))
        assert made.settings.nu * made.settings.nv == 16
    with pytest.raises(FitError, match=r"25 control points .* degree 4 .* or a lower degree"):
        to_tolerance(some, CastSettings(degree=4), Tolerance(0.05))


@pytest.mark.parametrize(
    ("name", "each"), [("bowl", 60), ("saddle", 200), ("cap", 200), ("wave", 60)]
)
def test_rows_of_points_are_one_surface(name: str, each: int) -> None:
    sample = taken(SHAPES[name], *rows(6, each), 0.01)
    # Of a row alone no plane could be told.
    assert np.quantile(sample.normals[:, 2], 0.02) > 0.7
    made = searched(sample)
    assert made.report is not None
    assert made.report.met
    assert made.settings.nu * made.settings.nv <= 30
    assert np.quantile(off(made, SHAPES[name]), 0.95) < 0.25


def test_between_rows_a_surface_is_led() -> None:
    sample = taken(SHAPES["bump"], *rows(6, 60))
    guided = with_guides(sample)
    assert guided.guides > 100
    assert guided.noise == sample.noise
    guides = guided.points[-guided.guides :]
    # Nearer than the rows tell by themselves: a bump 11 mm wide, in rows 12 mm apart.
    assert np.abs(guides[:, 2] - SHAPES["bump"](*guides.T[:2])).max() < 0.4
    made = searched(sample)
    assert off(made, SHAPES["bump"]).max() < 1.0
    assert len(made.made.feet.u) == len(sample.points)
    even = taken(SHAPES["bump"], *strewn(150))
    assert with_guides(even) is even


def test_what_bends_between_few_points_is_no_noise() -> None:
    assert taken(SHAPES["ridge"], *strewn(100)).noise < 0.02
    assert taken(SHAPES["wave"], *strewn(100)).noise < 0.005
    for count in (100, 400):
        assert taken(SHAPES["bowl"], *strewn(count), 0.05).noise == pytest.approx(0.05, rel=0.3)
    made = searched(taken(SHAPES["ridge"], *strewn(100)))
    assert "noise" not in made.words
    assert made.report is not None
    assert made.report.met


def test_growing_goes_on_where_all_that_is_missed_is_noise() -> None:
    sample = taken(SHAPES["wave"], *strewn(150))
    base = parameterize(sample, CastSettings(4, 4))
    start = Start(base.u, base.v, sample.first_weights)
    laid = Laid(sample.points, start, 1e-6, base.size, 10.0, sample.neighbours, sample.areas)
    laid, attempt = laid.settled(base.start_space(CastSettings(4, 4)))
    assert grown(laid, attempt, (6, 5))[1].space.counts == (6, 5)


def test_a_report_of_few_points_says_what_its_verdict_is() -> None:
    random = np.random.default_rng(0)
    for _ in range(300):
        count = int(random.integers(1, 40))
        signed, areas = random.normal(0, 1, count), random.uniform(0.1, 3, count)
        told = judge(signed, Tolerance(float(random.uniform(0.2, 2.5)), 0.95), areas)
        assert told.at_share in np.abs(signed)
        assert told.met == (told.within_share >= 0.95)
