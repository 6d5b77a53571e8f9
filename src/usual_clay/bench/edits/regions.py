"""Regions in a session: what spreads, brushes and outlines make of the chosen one."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from usual_clay.bench.session import Session
from usual_clay.core.arrays import Bools
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.region import fill_gaps, spread
from usual_clay.job.items import Region, Scan

# Gaps of fewer points than this share of a region are small.
GAP_SHARE = 0.03


def put_region(
    session: Session, scan: Scan, mask: Bools, words: str, onto_last: bool = False
) -> None:
    """Make the mask the chosen region of a scan: a new one, or in place of the old."""
    old = session.shown.get(session.choice.item, Region)
    vertices = np.flatnonzero(mask)
    if old is not None and old.scan == scan.id:
        session.change(old, words, onto_last, vertices=vertices)
        if session.is_proposing:
            session.propose(None)
        return
    name = session.job.free_name("Region 1")
    region = Region(id=session.job.new_id("region"), name=name, scan=scan.id, vertices=vertices)
    session.add(region, words)


def region_mask(session: Session, scan: Scan) -> Bools:
    """Return the chosen region of a scan as a mask, empty where there is none."""
    mask = np.zeros(len(scan.mesh.vertices), dtype=bool)
    region = session.shown.get(session.choice.item, Region)
    if region is not None and region.scan == scan.id:
        mask[region.vertices] = True
    return mask


def set_spread(session: Session, amount: float) -> None:
    """Change how far a spread goes; the last one follows live."""
    hand = session.hand
    hand.spread_amount = float(np.clip(amount, 0.0, 1.0))
    scan = session.job.get(hand.seed[0], Scan) if hand.seed is not None else None
    chosen = session.job.get(session.choice.item, Region)
    if scan is not None and hand.seed is not None and chosen is not None:
        mask = spread(scan.mesh, hand.seed[1], hand.spread_amount)
        put_region(session, scan, mask, "spread", onto_last=True)
    hand.changed.emit()


def change_region(
    session: Session,
    region: Region,
    change: Callable[[TriangleMesh, Bools], Bools],
    words: str,
) -> None:
    """Change a region as a whole: what it takes of its scan goes through a function."""
    scan = session.job.get(region.scan, Scan)
    if scan is not None:
        session.hand.seed = None
        put_region(session, scan, change(scan.mesh, region_mask(session, scan)), words)


def fill_region(session: Session, region: Region) -> None:
    """Take the small holes of a region in."""

    def fill(mesh: TriangleMesh, mask: Bools) -> Bools:
        return fill_gaps(mesh, mask, max(8, int(GAP_SHARE * mask.sum())))

    change_region(session, region, fill, "fill")


def invert_region(session: Session, region: Region) -> None:
    """Choose the rest of the scan instead."""

    def invert(mesh: TriangleMesh, mask: Bools) -> Bools:
        used = np.zeros(len(mask), dtype=bool)
        used[mesh.triangles] = True
        return ~mask & used

    change_region(session, region, invert, "invert")
