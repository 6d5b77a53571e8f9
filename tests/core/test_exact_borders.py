"""Surfaces whose borders are their curves to the last digit; and curves that are rich."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import pytest

from tests.core.test_from_curves import T, curve
from usual_clay.core.build.guide import Guide, Spend
from usual_clay.core.build.lean import Built, lean_surface
from usual_clay.core.build.loft import LoftSettings, loft_guide
from usual_clay.core.build.net import NetSettings, net_guide
from usual_clay.core.build.rails import TwoRailSettings, two_rail_guide
from usual_clay.core.build.sections import BuildError
from usual_clay.core.check.edges import edge_joint
from usual_clay.core.errors import FitError
from usual_clay.core.spline.boundary import BORDERS, border_curve
from usual_clay.core.spline.closest import curve_foot_points
from usual_clay.core.spline.curve import BSplineCurve, curve_points
from usual_clay.core.spline.measured import Measured
from usual_clay.core.spline.parts import beginning_at
from usual_clay.core.spline.surface import BSplineSurface, runs_round

SEEN = np.linspace(0, 1, 200)
UP = np.array([0.0, 0.0, 0.02])


def off_the_borders(surface: BSplineSurface, sources: Sequence[BSplineCurve]) -> float:
    """How far the worst of some curves lies from the border that is nearest to it, mm."""
    borders = [border_curve(surface, border) for border in BORDERS]
    return max(
        min(float(curve_foot_points(b, curve_points(c, SEEN))[2].max()) for b in borders)
        for c in sources
    )


def shell(x: np.ndarray, turn: np.ndarray) -> np.ndarray:
    width = 24 * np.sin(np.pi * (0.1 + 0.8 * x)) ** 0.7
    return np.stack([150 * x, width * np.cos(turn), 0.7 * width * np.sin(turn) + 9 * x**2], -1)


def askew(x: float, low: float, high: float) -> BSplineCurve:
    """A curve across the shell that does not stay at one x."""
    turn = low + (high - low) * T
    return curve(shell(x + 0.03 * np.sin(3 * turn), turn), 10)


def lengthwise(turn: float) -> BSplineCurve:
    ends = 0.05 + 0.03 * np.sin(3 * turn), 0.9 + 0.03 * np.sin(3 * turn)
    return curve(shell(ends[0] + (ends[1] - ends[0]) * T, np.full(len(T), turn)), 11)


def net_of_shell(low: float, high: float) -> tuple[tuple[BSplineCurve, ...], ...]:
    along = tuple(lengthwise(t) for t in np.linspace(low, high, 3))
    return along, tuple(askew(x, low, high) for x in (0.05, 0.3, 0.6, 0.9))


def test_nets_beside_each_other_share_their_border_to_the_last_digit() -> None:
    settings = NetSettings(within=0.03, borders="exact")
    nets = [net_of_shell(0.3, 1.5), net_of_shell(1.5, 2.8)]
    made: list[Built] = [lean_surface(net_guide(*net, settings), settings) for net in nets]
    for built, (along, across) in zip(made, nets, strict=True):
        outer = (along[0], along[-1], across[0], across[-1])
        assert off_the_borders(built.surface, outer) < 1e-7
        # The curves between them lie aslant of its parameters, and within the distance.
        assert built.farthest <= 0.03
        assert set(built.distances) == {
            *(f"along {k + 1}" for k in range(3)),
            *(f"across {k + 1}" for k in range(4)),
        }
    shared = edge_joint(made[0].surface, made[1].surface, nets[0][0][-1])
    assert shared.gap.max() < 1e-7
    free = lean_surface(net_guide(*nets[0], NetSettings(within=0.03)), Spend(within=0.03))
    assert off_the_borders(free.surface, nets[0][0][:1]) > 1e-4
    assert free.total < made[0].total


def test_what_is_to_be_exact_and_is_not_there_is_told() -> None:
    settings = NetSettings(within=0.03, borders="exact")
    along, across = net_of_shell(0.3, 1.5)
    lifted = BSplineCurve(along[0].knots, along[0].points + UP)
    with pytest.raises(BuildError, match=r"0\.0\d+ mm apart: exact borders take edges that meet"):
        net_guide((lifted, *along[1:]), across, settings)
    # One inside that passes at a distance is brought to the borders, and they stay.
    inner = BSplineCurve(along[1].knots, along[1].points + UP)
    built = lean_surface(net_guide((along[0], inner, along[2]), across, settings), settings)
    assert off_the_borders(built.surface, (along[0], along[2], across[0], across[-1])) < 1e-7
    round_ = replace(along[0], weights=np.ones(len(along[0].points)))
    with pytest.raises(BuildError, match="along 1 is rational"):
        net_guide((round_, *along[1:]), across, settings)
    flat = NetSettings(within=0.03, borders="exact", degree=2)
    with pytest.raises(FitError, match="takes the degree of the edges, 3"):
        lean_surface(net_guide(along, across, flat), flat)


def arc(start: np.ndarray, stop: np.ndarray, height: float) -> BSplineCurve:
    share = T[:, None]
    places = (1 - share) * start + share * stop
    places[:, 2] += height * np.sin(np.pi * T)
    return curve(places, 6)


def test_rails_and_the_profiles_at_their_ends_are_borders() -> None:
    x = 100 * T
    rails = (
        curve(np.column_stack([x, 10 + 3 * np.sin(x / 20), 0 * x]), 9),
        curve(np.column_stack([x + 2, -10 - 3 * np.cos(x / 25), 0.02 * x]), 11),
    )
    first, last = (arc(rails[0].points[k], rails[1].points[k], h) for k, h in ((0, 6.0), (-1, 4.0)))
    middle = arc(curve_points(rails[0], [0.5])[0], curve_points(rails[1], [0.48])[0] + 0.04, 9.0)
    settings = TwoRailSettings(within=0.05, borders="exact")
    guide = two_rail_guide(rails, (middle, last, first), settings)
    built = lean_surface(guide, settings)
    assert off_the_borders(built.surface, (*rails, first, last)) < 1e-7
    assert built.farthest <= 0.05
    moved = BSplineCurve(first.knots, first.points + UP)
    with pytest.raises(BuildError, match="profile 3 and its rails are"):
        two_rail_guide(rails, (middle, last, moved), settings)


def loop(radius: float, height: float, begin: float, wave: float = 1.0) -> BSplineCurve:
    turn = 2 * np.pi * T + begin
    flat = radius * np.cos(turn), 0.7 * radius * np.sin(turn) + wave * np.cos(2 * turn)
    return curve(np.column_stack([*flat, height + wave * np.cos(3 * turn)]), 13, True)


def test_closed_borders_are_exact_wherever_their_seams_were() -> None:
    sections = loop(20, 0, 0.0), loop(15, 30, 0.7), loop(24, 60, 2.0)
    settings = LoftSettings(within=0.05, borders="exact")
    built = lean_surface(loft_guide(sections, settings), settings)
    assert off_the_borders(built.surface, (sections[0], sections[2])) < 1e-7
    assert runs_round(built.surface, 1e-7)[0]
    rails = loop(20, 0, 0.0), loop(30, 10, 0.4)
    at = np.array([0.1]), np.array([0.6])
    profiles = tuple(
        arc(curve_points(rails[0], t)[0], curve_points(rails[1], t - 0.4 / (2 * np.pi))[0], 3.0)
        for t in at
    )
    carried = TwoRailSettings(within=0.05, borders="exact")
    built = lean_surface(two_rail_guide(rails, profiles, carried), carried)
    assert off_the_borders(built.surface, rails) < 1e-7
    assert runs_round(built.surface, 1e-7)[0]
    # A closed curve begun elsewhere is the same one, with no more knots than it takes.
    elsewhere = beginning_at(rails[0], 0.37)
    assert curve_foot_points(elsewhere, curve_points(rails[0], SEEN))[2].max() < 1e-8
    assert curve_points(elsewhere, [0.0])[0] == pytest.approx(curve_points(rails[0], [0.37])[0])
    assert len(elsewhere.points) <= len(rails[0].points) + 4
    corner = curve(np.column_stack([20 * T * (1 - T), 9 * np.sin(2 * np.pi * T), 0 * T]), 12)
    assert Measured(corner).closed
    with pytest.raises(BuildError, match="section 1 has a kink where"):
        loft_guide((corner, replace(corner, points=corner.points + 400 * UP)), settings)


def test_curves_that_are_rich_are_met_without_more_than_they_take() -> None:
    """A grid too coarse for them said that the distance could not be met."""

    def waved(x: np.ndarray, y: np.ndarray) -> np.ndarray:
        z = 3 * np.sin(2 * np.pi * 5 * x / 100) * (1 + 0.01 * y) + y**2 / 50
        return np.stack(np.broadcast_arrays(x, y, z), axis=-1)

    fine = np.linspace(0, 1, 1500)
    along = tuple(curve(waved(100 * fine, np.array(float(y))), 36) for y in (0, 15, 30))
    across = tuple(curve(waved(np.array(float(x)), 30 * T), 6) for x in (0, 40, 100))
    for guide in (
        net_guide(along, across, NetSettings()),
        two_rail_guide((across[0], across[-1]), (along[0], along[-1]), TwoRailSettings()),
    ):
        built = lean_surface(guide, Spend(within=0.05))
        assert built.farthest <= 0.05, built.words
        assert built.total <= 250


def test_a_guide_without_exact_borders_stays_as_it_is() -> None:
    guide: Guide = net_guide(*net_of_shell(0.3, 1.5), NetSettings())
    assert not guide.own
    assert not guide.exact
