"""Edits of whole curves that the interface can make in a session."""

from __future__ import annotations

from usual_clay.bench.session import Session
from usual_clay.core.errors import sentence
from usual_clay.core.fit.curve.holds import Hold
from usual_clay.core.spline.basis import SplineError
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.job.edits.curves import (
    reshaped,
    with_holds,
    with_twin,
)
from usual_clay.job.items import Curve, ItemId


def add_twin(session: Session, curve: Curve) -> None:
    """Add a mirrored copy that follows its original, and choose it."""
    job, twin, words = with_twin(session.job, curve)
    session.commit(job, f"twin of {curve.name}")
    session.choice.choose(twin.id)
    if words:
        session.told.emit("news", words)


# ---- shaping by hand -------------------------------------------------------------------------


def reshape(session: Session, curve: Curve, geometry: BSplineCurve, words: str) -> None:
    """Put a geometry made by hand into a curve."""
    if session.may_change(curve):
        try:
            session.commit(session.job.with_item(reshaped(session.job, curve, geometry)), words)
        except SplineError as error:
            session.told.emit("trouble", sentence(error))


def add_hold(session: Session, curve: Curve, hold: Hold, other: ItemId | None) -> str:
    """Add a hold to a curve; return why it cannot be, or nothing."""
    others = () if other is None else (other,)
    try:
        made = with_holds(session.job, curve, [hold], others)
    except SplineError as error:
        return sentence(error)
    if session.may_change(curve):
        session.commit(session.job.with_item(made), f"hold of {curve.name}")
    return ""


def let_go(session: Session, curve: Curve, index: int) -> None:
    """Take a hold away; the curve stays as it is."""
    if session.may_change(curve):
        made = with_holds(session.job, curve, [], (), drop=index)
        session.commit(session.job.with_item(made), f"hold of {curve.name}")
