"""Casting in a session."""

from __future__ import annotations

from usual_clay.bench.edits.making import start_making
from usual_clay.bench.session import Session
from usual_clay.core.fit.parameterize.region import CastSettings
from usual_clay.job.edits import make
from usual_clay.job.items import Followed, PointList, Region


def start_cast(session: Session, region: Region | PointList, settings: CastSettings) -> None:
    """Add a surface over a region; its first shape comes as soon as it is computed."""
    item = make.planned(session.job, "cast", settings, measured=region.id)

    def after(made: Followed) -> None:
        session.choice.fresh = made.id
        session.job_changed.emit()

    start_making(session, item, f"Casting {region.name}", f"cast {region.name}", after)
