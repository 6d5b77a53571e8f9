"""Spreading: a click on the scan grows a region over what is smooth around it."""

from __future__ import annotations

from usual_clay.bench.canvas import Canvas
from usual_clay.bench.edits.regions import put_region, region_mask
from usual_clay.bench.gestures.pointer import Gesture, Pointer, seed_under, until_release
from usual_clay.core.scan.region import spread as spread_from
from usual_clay.job.items import Region

HINT = (
    "<b>Click</b> the scan: the region spreads over what is smooth. <b>Shift</b> adds,"
    " <b>Ctrl</b> takes away. <b>[</b> <b>]</b> spread less or more, <b>Enter</b> casts it."
)


def spread(pane: Canvas, press: Pointer) -> Gesture:
    """Grow a region from the vertex nearest to the click."""
    yield from until_release()
    found = seed_under(pane, press)
    if found is None:
        return
    scan, seed = found
    session = pane.session
    grown = spread_from(scan.mesh, seed, session.hand.spread_amount)
    if press.shift or press.ctrl:
        mask = region_mask(session, scan)
        session.hand.seed = None
        put_region(session, scan, mask | grown if press.shift else mask & ~grown, "spread")
        return
    region = session.job.get(session.choice.item, Region)
    if region is not None and session.job.followers(region.id):
        # A surface lies on the chosen region: a fresh click starts another one.
        session.choice.choose(None)
    put_region(session, scan, grown, "spread")
    session.hand.seed = (scan.id, seed)
