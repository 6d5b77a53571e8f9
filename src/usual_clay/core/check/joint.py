"""Joints: how well two curves meet at their ends."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from usual_clay.core.spline.curve import BSplineCurve, curve_derivatives

# What still counts as smooth: mm, radians, and shares of the greater figure.
MEETS, TANGENT, CURVED, FLOWS = 0.001, float(np.radians(0.05)), 0.005, 0.02
# A curve that runs at an end at less than this share of its size stands still there; it is then
# looked at so much of its domain inside.
STILL, INSIDE = 1e-9, 1e-4


@dataclass(frozen=True)
class Joint:
    """The figures of a joint.

    Attributes
    ----------
    ends : (int, int)
        Which ends meet, 0 for a start.
    gap : float
        mm.
    angle : float
        Between the tangents, radians; NaN where one of them has none.
    curvature_step : float
        The difference of the curvature vectors, 1/mm.
    curvature_share : float
        The same as a share of the greater curvature.
    flow_share : float
        The difference in how fast curvature changes along the curves, as a share of the greater.
    """

    ends: tuple[int, int]
    gap: float
    angle: float
    curvature_step: float
    curvature_share: float
    flow_share: float

    @property
    def grade(self) -> int:
        """How smooth it is: 0 to 3 for G0 to G3; -1 where it does not meet."""
        checks = (
            self.gap <= MEETS,
            self.angle <= TANGENT,
            self.curvature_share <= CURVED,
            self.flow_share <= FLOWS,
        )
        return next((k - 1 for k, good in enumerate(checks) if not good), 3)

    @property
    def words(self) -> str:
        """The figures in words."""
        name = f"G{self.grade}" if self.grade >= 0 else "open"
        if np.isnan(self.angle):
            return f"{name}: gap {self.gap:.3f} mm; one of them is a mere point"
        return (
            f"{name}: gap {self.gap:.3f} mm, {np.degrees(self.angle):.2f}°,"
            f" curvature step {100 * self.curvature_share:.1f} %, its flow"
            f" {100 * self.flow_share:.1f} %"
        )


def joint(first: BSplineCurve, second: BSplineCurve) -> Joint:
    """Measure the joint at the ends of two curves that are nearest to each other."""
    ends = np.linalg.norm(first.points[[0, -1], None] - second.points[None, [0, -1]], axis=2)
    i, j = np.unravel_index(int(np.argmin(ends)), (2, 2))
    return joint_at(first, second, (int(i), int(j)))


def joint_at(first: BSplineCurve, second: BSplineCurve, ends: tuple[int, int]) -> Joint:
    """Measure the joint of one end of a curve with one end of another."""
    (place_a, ahead_a, bend_a, flow_a), (place_b, ahead_b, bend_b, flow_b) = (
        _end(first, ends[0], 1),
        _end(second, ends[1], -1),
    )
    angle = float(np.arctan2(np.linalg.norm(np.cross(ahead_a, ahead_b)), ahead_a @ ahead_b))
    step = float(np.linalg.norm(bend_a - bend_b))
    most = max(float(np.linalg.norm(bend_a)), float(np.linalg.norm(bend_b)), 1e-6)
    flows = max(abs(flow_a), abs(flow_b), 1e-6)
    gap = float(np.linalg.norm(place_a - place_b))
    return Joint(ends, gap, angle, step, step / most, abs(flow_a - flow_b) / flows)


def _end(
    curve: BSplineCurve, end: int, leaving: int
) -> tuple[np.ndarray, np.ndarray, np.ndarray, float]:
    """Return place, direction, curvature vector and its change along the way, at an end.

    The direction is that of one who walks off the first curve and onto the second. Where a curve
    stands still at its end, as with two control points in one place, it is looked at just before;
    of one that is a mere point the direction is NaN.
    """
    start, stop = curve.domain
    place, first, second, third = curve_derivatives(curve, [curve.domain[end]], 3)[:, 0]
    still = STILL * float(np.ptp(curve.points, axis=0).max()) / (stop - start)
    if float(np.linalg.norm(first)) <= still:
        inside = (stop - start) * (INSIDE if end == 0 else -INSIDE)
        _, first, second, third = curve_derivatives(curve, [curve.domain[end] + inside], 3)[:, 0]
    way = leaving if end == 1 else -leaving
    speed = float(np.linalg.norm(first))
    if speed <= still * INSIDE:
        return place, np.full(3, np.nan), np.zeros(3), 0.0
    turn = np.cross(first, second)
    size = float(np.linalg.norm(turn))
    bend = (second - (second @ first) / speed**2 * first) / speed**2
    change = 0.0
    if size > 1e-300:
        change = float(turn @ np.cross(first, third)) / size / speed**3
        change -= 3 * size * float(first @ second) / speed**5
    return place, way * first / speed, bend, way * change / speed
