"""How a body floats: a righting curve of 19 angles on 20,000 triangles."""

from __future__ import annotations

import numpy as np
from tests.core.test_floating import ball

from benchmarks.timing import say, seconds
from usual_clay.core.body.afloat import ClosedMesh
from usual_clay.core.body.floating import at_rest, righting


def floating(runs: int = 3) -> None:
    """A long body of 20,000 triangles: how it lies, and how it rights itself."""
    round_ = ball(10.0, 10_002)
    body = ClosedMesh(round_.vertices * [5.0, 1.5, 1.0], round_.triangles)
    centre, mass = np.array([0.0, 0.0, -3.0]), 0.45 * body.volume / 1000
    angles = np.radians(np.arange(0, 181, 10.0))
    times = [seconds(lambda: righting(body, mass, centre, angles)) for _ in range(runs)]
    say(f"righting curve of 19 angles, {len(body.triangles)} triangles", times, "s", "under 1")
    times = [seconds(lambda: at_rest(body, mass, centre)) for _ in range(runs)]
    say("how the same lies by itself", times, "s", "")
