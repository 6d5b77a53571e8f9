"""How a body floats, as a job's file holds it."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.body.afloat import Wet
from usual_clay.core.body.floating import Afloat, Righted, summed_up
from usual_clay.core.body.lying import Lying, under_by

NUMBERS = ("mass", "body_volume", "size")
WET = ("volume", "area", "plane", "along", "across")


def write_lying(lying: Lying | None, put: Callable[[str, Any], None]) -> dict[str, Any]:
    """Put the arrays of how a body floats, and return the rest."""
    if lying is None:
        return {}
    put("waterline", lying.waterline.reshape(-1, 6))
    put("sections", lying.sections)
    rows = [(arm.angle, arm.trim, arm.arm, arm.draft) for arm in lying.arms]
    put("arms", np.array(rows).reshape(-1, 4))
    afloat, wet = lying.afloat, lying.afloat.wet
    return {
        "figures": {name: getattr(lying, name) for name in NUMBERS},
        "afloat": {
            "height": afloat.height,
            **{name: getattr(afloat, name).tolist() for name in ("up", "centre", "keel")},
        },
        "wet": {
            **{name: getattr(wet, name) for name in WET},
            **{name: getattr(wet, name).tolist() for name in ("centre", "middle")},
        },
        "marks": list(lying.under),
        "under": [list(arm.under) for arm in lying.arms],
    }


def read_lying(told: dict[str, Any], read: Callable[..., Any]) -> Lying:
    """Return how a body floats.

    Raises
    ------
    KeyError, TypeError, ValueError
        Where it is not all there, or not of finite numbers.
    """
    wet, afloat = told["wet"], told["afloat"]
    marks = [str(name) for name in told["marks"]]
    rows = read(told["arms"], "f", (None, 4))
    if len(rows) != len(told["under"]) or (np.diff(rows[:, 0]) <= 0).any():
        raise ValueError("the righting arms are not all there, angle by angle")
    arms = tuple(
        Righted(angle, trim, arm, draft, tuple(str(name) for name in under))
        for (angle, trim, arm, draft), under in zip(rows.tolist(), told["under"], strict=True)
    )
    lies = Afloat(
        _place(afloat["up"]),
        _number(afloat["height"]),
        Wet(
            centre=_place(wet["centre"]),
            middle=_place(wet["middle"]),
            **{name: _number(wet[name]) for name in WET},
        ),
        _place(afloat["centre"]),
        _place(afloat["keel"]),
    )
    return Lying(
        afloat=lies,
        waterline=read(told["waterline"], "f", (None, 6)).reshape(-1, 2, 3),
        sections=read(told["sections"], "f", (None, 2)),
        arms=arms,
        curve=summed_up(arms) if len(arms) > 1 else None,
        under=under_by(marks, arms),
        **{name: _number(told["figures"][name]) for name in NUMBERS},
    )


def _number(value: Any) -> float:
    made = float(value)
    if not math.isfinite(made):
        raise ValueError("a figure of what floats is not finite")
    return made


def _place(values: Any) -> Floats:
    x, y, z = values
    return np.array([_number(x), _number(y), _number(z)])
