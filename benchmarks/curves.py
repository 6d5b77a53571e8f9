"""Surfaces from curves: cost and time, against the kernel's exact network."""

from __future__ import annotations

from typing import Any

import numpy as np
from OCP.collections import Array1_Geom_Curve
from OCP.GeomFill import GeomFill_Gordon
from splipy import BSplineBasis, Curve, surface_factory
from tests.core.test_from_curves import body_net, curve, dome_edges

from benchmarks.timing import say, seconds
from usual_clay.core.body.kernel import curve_to_kernel
from usual_clay.core.build.fill import FillSettings, fill_guide
from usual_clay.core.build.lean import Built, lean_surface
from usual_clay.core.build.loft import LoftSettings, loft_guide
from usual_clay.core.build.net import NetSettings, net_guide
from usual_clay.core.build.rails import TwoRailSettings, two_rail_guide
from usual_clay.core.spline.curve import BSplineCurve, curve_points


def from_curves(runs: int = 3) -> None:
    """A net of 6 x 4 over a 200 mm body, two rails with three profiles, a loop of six edges."""
    along, across = body_net()
    net = NetSettings(within=0.017)
    made: list[Built] = []
    times = [
        seconds(lambda: made.append(lean_surface(net_guide(along, across, net), net)))
        for _ in range(runs)
    ]
    kernel = GeomFill_Gordon()

    def gordon() -> None:
        kernel.Init(_array(across), _array(along), 0.01)
        kernel.Perform()

    exact = seconds(gordon)
    surface = kernel.Surface()
    say("net of 6 x 4 curves within 0.017 mm", times, "s", "under 0.5")
    say("the same, in the time of the kernel's exact network", [t / exact for t in times], "x", "")
    say("its control points", [float(made[0].total)], "", "under 140")
    say("those of the exact network", [float(surface.NbUPoles() * surface.NbVPoles())], "", "")
    say("farthest that a curve lies off, mm", [made[0].farthest], "", "at most 0.017")
    rails, profiles = _rails()
    two = TwoRailSettings()
    times = [
        seconds(lambda: lean_surface(two_rail_guide(rails, profiles, two), two))
        for _ in range(runs)
    ]
    say("two rails with three profiles within 0.05 mm", times, "s", "under 0.3")
    _loft(runs)
    turn = np.arange(6) * np.pi / 3
    edges = dome_edges(10 * np.column_stack([np.cos(turn), np.sin(turn)]))
    fill = FillSettings()
    times = [seconds(lambda: lean_surface(fill_guide(edges, (), fill), fill)) for _ in range(runs)]
    say("a fill of six edges within 0.05 mm", times, "s", "under 1")


def _loft(runs: int) -> None:
    """Six sections of the body, against a library's exact loft of the very same curves."""
    _, sections = body_net()
    settings = LoftSettings()
    made: list[Built] = []
    times = [
        seconds(lambda: made.append(lean_surface(loft_guide(sections, settings), settings)))
        for _ in range(runs)
    ]
    others = [Curve(BSplineBasis(each.degree + 1, each.knots), each.points) for each in sections]
    exact: list[Any] = []
    took = seconds(lambda: exact.append(surface_factory.loft(*others)))
    say("loft of six sections within 0.05 mm", times, "s", "")
    say("the same, in the time of a library's exact one", [t / took for t in times], "x", "")
    say("its control points", [float(made[0].total)], "", "")
    say("those of the exact one", [float(np.prod(exact[0].shape))], "", "")


def _array(curves: tuple[BSplineCurve, ...]) -> Array1_Geom_Curve:
    made = Array1_Geom_Curve(1, len(curves))
    for number, each in enumerate(curves, 1):
        made.SetValue(number, curve_to_kernel(each))
    return made


def _rails() -> tuple[tuple[BSplineCurve, ...], tuple[BSplineCurve, ...]]:
    t = np.linspace(0, 1, 500)
    rails = (
        curve(np.column_stack([100 * t, -10 - 5 * np.sin(3 * t), 0 * t]), 8),
        curve(np.column_stack([100 * t, 10 + 4 * t, 3 * t]), 8),
    )
    profiles = []
    for at in (0.0, 0.5, 1.0):
        a, b = (curve_points(rail, [at])[0] for rail in rails)
        rise = np.column_stack([0 * t, 0 * t, 8 * np.sin(np.pi * t)])
        profiles.append(curve(a + (b - a) * t[:, None] + rise, 6))
    return rails, tuple(profiles)
