"""A spline of given control points, fitted to a run or to a part of it."""

from __future__ import annotations

import numpy as np

from usual_clay.core.errors import FitError
from usual_clay.core.fit.curve.fitter import SequenceFitter
from usual_clay.core.fit.curve.found import found_in
from usual_clay.core.fit.curve.sequence import (
    CurveFit,
    PointSequence,
    TraceSettings,
    parts_of,
    thinned,
)
from usual_clay.core.progress import Progress, silent
from usual_clay.core.spline.closest import curve_foot_points

# Rounds on all points of a run whose thinned part has settled.
FULL_ROUNDS = 2


def fit_sequence(
    run: PointSequence, settings: TraceSettings, progress: Progress = silent
) -> CurveFit:
    """Fit a spline of given control points to a run, or to one of the parts between its corners.

    Parameters start as chord lengths; then the points slide along the spline (Wang, Pottmann and
    Liu 2006). Adaptive knots are spread by the size of the next derivative (de Boor 1978, ch. 12)
    and then moved to where the squared error is least. The ends of a closed run meet, with one
    tangent and one curvature. Points that stray far from the run's course do not draw the curve.

    Raises
    ------
    FitError
        For fewer points than control points, or a part that is not there.
    """
    parts = parts_of(run, settings.corners, settings.cuts)
    if settings.part >= len(parts):
        raise FitError(f"the run has only {len(parts)} parts between corners now")
    part = parts[settings.part]
    light = thinned(part)
    fitter = SequenceFitter(light, settings.degree)
    found = found_in(settings)
    while True:
        curve = fitter.fit(settings.controls, settings.knots, progress, found=found)[0]
        if not fitter.doubt():
            break
    if len(light.points) < len(part.points) or not fitter.believed.all():
        # All points draw the curve that the thinned run has settled, but those that stray from it.
        seed, count = fitter.state.t, len(part.points) + part.closed
        if len(light.points) < len(part.points):
            seed = np.interp(np.linspace(0, len(seed) - 1, count), np.arange(len(seed)), seed)
        fitter = SequenceFitter(part, settings.degree, (curve, seed))
        for _ in range(FULL_ROUNDS):
            fitter.refine(curve.knots)
        curve = fitter.state.curve
    return CurveFit(curve, curve_foot_points(curve, part.points, fitter.t)[2], fitter.believed)
