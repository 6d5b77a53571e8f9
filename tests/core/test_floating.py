"""How bodies float, against closed forms: barge, wedge, ball, cylinders, the wall-sided formula."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from scipy.spatial import ConvexHull

from usual_clay.core.body.afloat import ClosedMesh, FloatError, below
from usual_clay.core.body.floating import (
    WATER,
    Weight,
    at_draft,
    at_rest,
    centre_of,
    righting,
    summed_up,
)
from usual_clay.core.body.lying import FloatSettings, lie
from usual_clay.job.edits.afloat import holds_of, lifted

Z = np.array([0.0, 0.0, 1.0])


def hull(points: np.ndarray) -> ClosedMesh:
    """The convex body of points, its triangles facing outward."""
    made = ConvexHull(points)
    corners = points[made.simplices]
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    turned = (normal * made.equations[:, :3]).sum(axis=1) < 0
    triangles = np.where(turned[:, None], made.simplices[:, ::-1], made.simplices)
    return ClosedMesh.of(points, triangles.astype(np.int64))


def barge(long: float = 100.0, wide: float = 30.0, tall: float = 20.0) -> ClosedMesh:
    corners = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)], dtype=float)
    return hull((corners - [0.5, 0.5, 0.0]) * [long, wide, tall])


def ball(radius: float = 10.0, count: int = 9000) -> ClosedMesh:
    k = np.arange(count) + 0.5
    polar, turn = np.arccos(1 - 2 * k / count), np.pi * (1 + np.sqrt(5)) * k
    places = np.stack(
        [np.cos(turn) * np.sin(polar), np.sin(turn) * np.sin(polar), np.cos(polar)], axis=1
    )
    return hull(radius * places)


def cylinder(radius: float, tall: float, lying: bool, sides: int = 1200) -> ClosedMesh:
    turn = 2 * np.pi * np.arange(sides) / sides
    ring = radius * np.stack([np.cos(turn), np.sin(turn)], axis=1)
    ends = [np.column_stack([ring, np.full(sides, h)]) for h in (0.0, tall)]
    places = np.concatenate(ends)
    return hull(places[:, [2, 0, 1]] if lying else places)


def test_a_barge_has_its_closed_forms() -> None:
    body = barge()
    afloat = at_draft(body, 8.0, np.array([0.0, 0.0, 10.0]))
    assert body.volume == pytest.approx(60_000)
    assert body.centre == pytest.approx([0, 0, 10])
    assert afloat.wet.volume == pytest.approx(24_000)
    assert afloat.wet.plane == pytest.approx(3_000)
    assert afloat.wet.area == pytest.approx(3_000 + 2 * 8 * 130)
    assert afloat.kb == pytest.approx(4.0)
    assert afloat.bm() == pytest.approx(30**2 / (12 * 8))
    assert afloat.bm("along") == pytest.approx(100**2 / (12 * 8))
    assert afloat.gm() == pytest.approx(4 + 900 / 96 - 10)


def test_wedge_ball_and_cylinders_have_theirs() -> None:
    wedge = hull(
        np.array([[x, y, z] for x in (-50.0, 50) for y, z in ((0.0, 0), (-15, 20), (15, 20))])
    )
    wet = below(wedge, Z, 12.0)
    wide = 2 * 15 * 12 / 20
    assert wet.volume == pytest.approx(100 * wide * 12 / 2)
    assert wet.centre[2] == pytest.approx(8.0)
    assert wet.across == pytest.approx(100 * wide**3 / 12)
    round_ = ball()
    half = below(round_, Z, 0.0)
    assert half.volume == pytest.approx(2 / 3 * np.pi * 1000, rel=1e-3)
    assert half.centre[2] == pytest.approx(-3 / 8 * 10, rel=1e-3)
    assert half.plane == pytest.approx(np.pi * 100, rel=1e-3)
    assert half.across == pytest.approx(np.pi * 10**4 / 4, rel=1e-3)
    assert half.area == pytest.approx(2 * np.pi * 100, rel=1e-3)
    upright = at_draft(cylinder(10, 40, False), 25.0, np.zeros(3))
    assert upright.kb == pytest.approx(12.5)
    assert upright.bm() == pytest.approx(100 / (4 * 25), rel=1e-3)
    lying = below(cylinder(10, 40, True), Z, 0.0)
    assert lying.volume == pytest.approx(np.pi * 100 / 2 * 40, rel=1e-3)
    assert lying.centre[2] == pytest.approx(-40 / (3 * np.pi), rel=1e-3)


def test_the_righting_curve_is_that_of_walls_until_the_deck_goes_under() -> None:
    body, centre = barge(), np.array([0.0, 0.0, 9.0])
    mass = 24.0
    upright = at_draft(body, 8.0, centre)
    angles = np.radians(np.arange(0, 26, 5.0))
    deck = {"deck edge": np.array([[x, 15.0, 20.0] for x in (-50.0, 50)] + [[0.0, -15, 20]])}
    arms = righting(body, mass, centre, angles, marks=deck)
    tan = np.tan(angles)
    walls = np.sin(angles) * (upright.gm() + upright.bm() * tan**2 / 2)
    assert [each.arm for each in arms] == pytest.approx(walls, rel=1e-3, abs=1e-6)
    assert [each.trim for each in arms] == pytest.approx(np.zeros(6), abs=1e-5)
    # Once a bilge is out of the water a triangle is under: the edge follows at 39.8 degrees.
    assert not any(each.under for each in arms)
    past = righting(body, mass, centre, np.radians([39.5, 40.1]), marks=deck)
    assert [each.under for each in past] == [(), ("deck edge",)]
    whole = summed_up(righting(body, mass, centre, np.radians(np.arange(0, 181, 10.0))))
    assert whole.vanishes is not None
    assert 0 < whole.at < whole.vanishes < np.pi
    assert whole.area > 0


def test_a_body_finds_how_it_lies_from_upside_down_too() -> None:
    body = barge()
    for start in (Z, -Z, np.array([0.3, 0.9, -0.2])):
        rest = at_rest(body, 24.0, np.array([0.0, 0.0, 3.0]), start=start)
        assert rest.up == pytest.approx(Z, abs=1e-4)
        assert rest.draft == pytest.approx(8.0, abs=1e-3)
    # A weight off the middle gives trim and heel that put its centre over the water's.
    mass, centre = centre_of(body, 0.35, [Weight(3.0, (20.0, 2.0, 2.0))], None)
    assert mass == pytest.approx(24.0)
    assert centre == pytest.approx([2.5, 0.25, (21 * 10 + 3 * 2) / 24])
    rest = at_rest(body, mass, centre)
    assert rest.trim > np.radians(0.5)
    level = centre - rest.wet.centre
    level = level - (level @ rest.up) * rest.up
    assert np.abs(level).max() < 1e-4
    assert rest.wet.volume == pytest.approx(24_000, rel=1e-6)
    # A tall light pole does not stay upright.
    pole = at_rest(barge(10, 10, 80), 3.0, np.array([0.0, 0.0, 40.0]))
    assert abs(pole.up[2]) < 0.1


def test_what_cannot_float_says_why() -> None:
    body = barge()
    with pytest.raises(FloatError, match=r"it sinks: it weighs 70\.00 g, and water .* 60\.00 g"):
        at_rest(body, 70.0, body.centre)
    with pytest.raises(FloatError, match="it weighs nothing"):
        at_rest(body, 0.0, body.centre)
    with pytest.raises(FloatError, match=r"the body is open along 3 edges"):
        ClosedMesh.of(body.vertices, body.triangles[1:])
    with pytest.raises(FloatError, match=r"at a draft of 25 mm it does not float: it is 20\.00 mm"):
        at_draft(body, 25.0, body.centre)
    inward = ClosedMesh.of(body.vertices, body.triangles[:, ::-1])
    assert inward.volume == pytest.approx(60_000)


@pytest.mark.parametrize(("heel", "trim"), [(20.0, 0.0), (0.0, -4.0), (15.0, 3.0)])
def test_a_body_is_held_as_it_is_asked(heel: float, trim: float) -> None:
    way = np.radians([heel, trim])
    settings = FloatSettings("draft", draft=8.0, heel=way[0], trim=way[1], step=0.0)
    held = lie(barge(), settings, {})
    # Its walls stand: what it displaces is its plan times the depth of its middle.
    lies = held.afloat
    assert [lies.heel, lies.trim] == pytest.approx(way)
    assert lies.draft == pytest.approx(8.0)
    assert lies.wet.volume == pytest.approx(100 * 30 * 8 / lies.up[2], rel=1e-9)
    # Lifting the water where it is held turns it about the middle of its surface.
    for at in holds_of(held):
        draft, *turns = lifted(held, at, 2.0)
        again = lie(barge(), replace(settings, draft=draft, heel=turns[0], trim=turns[1]), {})
        there = again.afloat
        assert there.height - (at.foot + 2.0 * lies.up) @ there.up == pytest.approx(0, abs=0.01)
    with pytest.raises(FloatError, match="does not float"):
        lie(barge(), replace(settings, draft=40.0), {})


def test_all_of_it_in_one_value() -> None:
    """A barge half under: its waterline, the areas of its sections, and a mark that goes under."""
    hull_ = barge(100.0, 30.0, 20.0)
    edge = np.array([[x, -15.0, 19.0] for x in (0.0, 50.0, 100.0)]) + hull_.vertices.min(axis=0) * [
        1,
        0,
        1,
    ]
    settings = FloatSettings(material=0.5, water=1.0, step=np.radians(5))
    lying = lie(hull_, settings, {"edge": edge})
    assert lying.afloat.draft == pytest.approx(10, rel=1e-6)
    assert lying.mass == pytest.approx(30)
    around = np.linalg.norm(np.diff(lying.waterline, axis=1)[:, 0], axis=1).sum()
    assert around == pytest.approx(260, rel=1e-6)
    inner = lying.sections[1:-1]
    assert inner[:, 1] == pytest.approx(np.full(len(inner), 300.0), rel=1e-6)
    # 9 mm over the water and 15 out: wall-sided, it goes under at their slope.
    assert lying.under["edge"] == pytest.approx(np.arctan2(9, 15), abs=np.radians(5))
    assert lying.curve is not None
    assert lying.curve.greatest > 0
    deep = lie(hull_, FloatSettings(by="draft", draft=5.0, step=0.0), {})
    assert deep.mass == pytest.approx(15 * WATER)
    assert deep.curve is None
    for wrong in ({"weights": (1.0, 2.0)}, {"material": -1.0}, {"step": 3.0}, {"centre": (1.0,)}):
        with pytest.raises(FloatError):
            FloatSettings(**wrong)
