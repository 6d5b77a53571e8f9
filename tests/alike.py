"""Comparing jobs field by field, whatever kinds of items they hold."""

from __future__ import annotations

from dataclasses import fields, is_dataclass

import numpy as np

from usual_clay.job.items import Basis
from usual_clay.job.job import Job
from usual_clay.job.remake import is_stale


def difference(one: object, other: object, where: str = "") -> str:
    """Return where two values differ, or nothing; arrays must be equal to the last bit."""
    if isinstance(one, Basis) or isinstance(other, Basis):
        # What it was made of is told by being stale or not.
        return ""
    if type(one) is not type(other):
        return f"{where}: {type(one).__name__} and {type(other).__name__}"
    if isinstance(one, np.ndarray):
        return "" if np.array_equal(one, other) else f"{where}: arrays differ"
    if is_dataclass(one) and not isinstance(one, type):
        found = (
            difference(getattr(one, f.name), getattr(other, f.name), f"{where}.{f.name}")
            for f in fields(one)
            if f.name != "made_of"
        )
        return next(filter(None, found), "")
    if isinstance(one, tuple | list):
        if len(one) != len(other):
            return f"{where}: {len(one)} and {len(other)} parts"
        pairs = zip(one, other, strict=True)
        found = (difference(a, b, f"{where}[{k}]") for k, (a, b) in enumerate(pairs))
        return next(filter(None, found), "")
    if hasattr(one, "items"):
        return difference(list(one.items()), list(other.items()), where)
    return "" if one == other else f"{where}: {one!r} and {other!r}"


def assert_same(one: Job, other: Job) -> None:
    """Assert that two jobs hold the same, down to every knot, and the same of it is stale."""
    assert difference(one, other, "job") == ""
    stale = [[is_stale(job, item) for item in job.items.values()] for job in (one, other)]
    assert stale[0] == stale[1]
