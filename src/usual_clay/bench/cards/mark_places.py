"""Places for a card's field, marked by clicks on the stage."""

from __future__ import annotations

from usual_clay.bench.cards.fields import Fields, Places
from usual_clay.bench.marking import Marking
from usual_clay.bench.session import Session

MOST = 200


def mark_places(session: Session, fields: Fields, field: Places) -> None:
    """Let places of a field be marked on the stage; each change is taken at once."""
    known = fields.values_of(field.name) or ()
    places = tuple(
        (float(x), float(y), float(z))
        for x, y, z in zip(known[::3], known[1::3], known[2::3], strict=True)
    )

    def changed(marking: Marking) -> None:
        fields.set_places(field.name, marking.points.ravel().tolist())

    hint = (
        f"<b>Click</b> {field.tip[0].lower()}{field.tip[1:]}. <b>Drag</b> a mark to move it,"
        " <b>Esc</b> when they are right."
    )
    session.hand.mark(Marking(hint, MOST, places=places, changed=changed))
