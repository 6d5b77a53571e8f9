"""What a search for a lean curve came to, as its settings keep it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from usual_clay.core.fit.curve.sequence import TraceSettings
from usual_clay.core.spline.basis import SplineError, check_knots, clamped


@dataclass(frozen=True)
class Found:
    """What a search found for a count.

    Attributes
    ----------
    inner : tuple of float
        Inner knots.
    pace : tuple of float
        The parameters that are reached at even shares of the run's length.
    """

    inner: tuple[float, ...]
    pace: tuple[float, ...]


def found_in(settings: TraceSettings) -> Found | None:
    """Return what a search wrote into settings, if one did.

    Raises
    ------
    SplineError
        Where it does not fit the count, or falls.
    """
    if not settings.pace:
        return None
    check_knots(clamped(settings.inner, settings.degree), settings.controls)
    if not (np.isfinite(settings.pace).all() and (np.diff(settings.pace) >= 0).all()):
        raise SplineError("the parameters of a run must be finite and must not fall")
    return Found(settings.inner, settings.pace)
