"""Spreading: a click on the scan grows a region over what is smooth around it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from usual_clay.bench.gestures.pointer import Gesture, Pointer, seed_under, until_release
from usual_clay.core.scan.region import spread as spread_from
from usual_clay.job.items import Region

if TYPE_CHECKING:
    from usual_clay.bench.stage.pane import Pane

HINT = (
    "<b>Click</b> the scan: the region spreads over what is smooth. <b>Shift</b> adds,"
    " <b>Ctrl</b> takes away. <b>[</b> <b>]</b> spread less or more, <b>Enter</b> casts it."
)


def spread(pane: Pane, press: Pointer) -> Gesture:
    """Grow a region from the vertex nearest to the click."""
    yield from until_release()
    found = seed_under(pane, press)
    if found is None:
        return
    scan, seed = found
    session = pane.session
    grown = spread_from(scan.mesh, seed, session.spread_amount)
    if press.shift or press.ctrl:
        mask = session.region_mask(scan)
        session.seed = None
        session.put_region(scan, mask | grown if press.shift else mask & ~grown, "spread")
        return
    region = session.job.get(session.chosen, Region)
    if region is not None and session.job.followers(region.id):
        # A surface lies on the chosen region: a fresh click starts another one.
        session.choose(None)
    session.put_region(scan, grown, "spread")
    session.seed = (scan.id, seed)
