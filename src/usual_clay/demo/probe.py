"""A stand-in for a touch probe: it runs along the demo lure's centre plane."""

from __future__ import annotations

import numpy as np

from usual_clay.demo.points import outline_centres
from usual_clay.files.point_stream import PacedStream


class StandInProbe(PacedStream):
    """Streams the centres of a ball that runs along the lure's outline.

    Parameters
    ----------
    spacing, noise, ball : float
        Step along the outline, standard deviation, and ball diameter, mm.
    slips : float
        How many slips to a hundred points, about.
    pace : float
        Points a second.
    seed : int
    """

    def __init__(
        self,
        spacing: float = 1.0,
        noise: float = 0.008,
        ball: float = 3.0,
        slips: float = 1.0,
        pace: float = 60.0,
        seed: int = 0,
    ) -> None:
        random = np.random.default_rng(seed)
        run = outline_centres(ball, spacing)
        run[:, [0, 2]] += random.normal(0, noise, (len(run), 2))
        starts = np.flatnonzero(random.random(len(run)) < slips / 100)
        for start in starts:
            stop = min(start + int(random.integers(1, 4)), len(run))
            out = run[start:stop] - np.array([48.0, 0.0, 0.0])
            out /= np.linalg.norm(out, axis=1, keepdims=True)
            run[start:stop] += random.uniform(0.35, 0.9) * out
        super().__init__("Probe stand-in", run, ball, pace)
