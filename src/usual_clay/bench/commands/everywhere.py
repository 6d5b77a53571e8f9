"""What is done at every station: steps back and forward, items, views, documents."""

from __future__ import annotations

from functools import partial

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QAbstractSpinBox,
    QApplication,
    QLineEdit,
    QPushButton,
    QWidget,
)

from usual_clay.bench.bench import Bench
from usual_clay.bench.camera import TRUE_VIEWS
from usual_clay.bench.command import STATIONS, Command
from usual_clay.bench.commands.surface import cast
from usual_clay.bench.edits.points import take_out
from usual_clay.bench.edits.regions import set_spread
from usual_clay.bench.session import Session
from usual_clay.bench.shelf_row import ShelfRow
from usual_clay.bench.theme.theme import CHOICES, themes
from usual_clay.job.edits import ties
from usual_clay.job.edits.arrange import free_group
from usual_clay.job.edits.placing import MOVABLE
from usual_clay.job.items import ItemId, PointList, Region
from usual_clay.job.kinds import whole_of

TABBED = Qt.FocusPolicy.TabFocus
NOTHING = "Choose an item in the Shelf or on the stage first."


# ---- steps back and forward ------------------------------------------------------------------


def escape(bench: Bench) -> None:
    """Go one step back."""
    session = bench.session
    choice = session.choice
    if bench.finder.isVisible():
        bench.finder.hide()
    elif (
        bench.stage.escape()
        or session.stop_work()
        or bench.cards.end_marking()
        or bench.cards.close_asked()
    ):
        return
    elif session.hand.tool is not None:
        session.hand.take(None)
    elif choice.fresh is not None and choice.fresh == choice.item:
        choice.fresh = None
        session.undo()
    else:
        choice.choose(None)


def accept(bench: Bench) -> None:
    """Do what Enter means here."""
    focused, session = QApplication.focusWidget(), bench.session
    if isinstance(focused, ShelfRow):
        session.choice.choose(focused.item.id)
    elif isinstance(focused, QPushButton):
        focused.click()
    elif isinstance(focused, QAbstractSpinBox | QLineEdit):
        bench.stage.large.setFocus()
    elif not bench.cards.accept_asked():
        if session.choice.fitted() is not None and session.hand.tool is None:
            keep(bench)
        elif bench.chosen(Region) is not None:
            cast(bench)


def keep(bench: Bench) -> None:
    """Be done with the chosen surface or curve."""
    bench.session.choice.fresh = None
    bench.session.choice.choose(None)


def step_setting(up: bool, bench: Bench) -> None:
    """Halve or double what the brackets set: the nudge step, the brush, or the spread."""
    session = bench.session
    hand = session.hand
    if session.choice.points:
        hand.nudge_step = float(np.clip(hand.nudge_step * (2 if up else 0.5), 1e-4, 100))
        session.told.emit("news", f"Arrows nudge by {hand.nudge_step:g} mm.")
    elif hand.tool == "spread":
        set_spread(session, hand.spread_amount + (0.02 if up else -0.02))
    else:
        hand.set_brush(hand.brush_radius * (2 if up else 0.5))


# ---- the chosen item -------------------------------------------------------------------------


def nothing_chosen(bench: Bench) -> str:
    return "" if bench.session.choice.item in bench.session.job.items else NOTHING


def delete(bench: Bench) -> None:
    """Take ringed points out; without any, delete the chosen item."""
    session, points = bench.session, bench.chosen(PointList)
    if points is not None and len(session.choice.ringed):
        take_out(session, points, session.choice.ringed, "take points out")
    elif session.choice.item is not None:
        delete_item(session, session.choice.item)


def move(does: str, bench: Bench) -> None:
    """Move, turn, scale or mirror the chosen thing, or its chosen points."""
    bench.cards.ask("place").offer(does)


def delete_item(session: Session, item_id: str) -> None:
    """Delete an item; what would be loose without it is named first, and the key asked again."""
    job = session.job
    every = session.choice.besides(item_id)
    gone = {*every} | {each.id for each in job.all(Region) if each.scan in every}
    loose = {each.id: each for one in gone for each in job.followers(one) if each.id not in gone}
    if loose and session.choice.warned != item_id:
        session.choice.warned = item_id
        name = job.items[item_id].name if len(every) == 1 else "these"
        session.told.emit(
            "trouble",
            f"{ties.words_of(list(loose.values()))} will be loose without {name}. Delete once more"
            " to do it.",
        )
        return
    session.delete(item_id)


def rename(bench: Bench) -> None:
    bench.shelf.rows[bench.session.choice.item or ""].rename()


def toggle(flag: str, bench: Bench) -> None:
    item = bench.session.job.items[bench.session.choice.item or ""]
    bench.session.set_flag(item.id, flag, not getattr(item, flag))


def switch(layer: str, bench: Bench) -> None:
    bench.stage.switch(layer)


def look(view: str, bench: Bench) -> None:
    bench.stage.look(view)


def go_to(panel: str, bench: Bench) -> None:
    """Give a panel the focus."""
    if panel == "stage":
        bench.stage.large.setFocus()
        return
    if panel == "shelf":
        rows = bench.shelf.rows
        row = rows.get(bench.session.choice.item or "") or next(iter(rows.values()), None)
        if row is not None:
            row.setFocus()
        return
    whole = bench.cards.card if panel == "card" else bench.balance
    for part in whole.findChildren(QWidget):
        if part.isVisibleTo(whole) and part.isEnabled() and part.focusPolicy() & TABBED:
            part.setFocus(Qt.FocusReason.TabFocusReason)
            return
    bench.say(f"Nothing in the {panel} takes keys just now.")


def show_only(bench: Bench) -> None:
    """Hide all but what is chosen and what that is a part of."""
    session, job = bench.session, bench.session.job
    item = job.items[session.choice.item or ""]
    keep: set[ItemId | None] = set()
    for each_id in session.choice.besides(item.id):
        keep |= {each_id, whole_of(job.items[each_id])}
    for each in job.items.values():
        if each.visible != (each.id in keep):
            job = job.changed(each.id, visible=each.id in keep)
    session.hidden_by = {each.id: each.visible for each in session.job.items.values()}
    session.commit(job, f"show only {item.name}")


def group(bench: Bench) -> None:
    """Put what is chosen in a new group."""
    session = bench.session
    session.set_group(session.choice.item or "", free_group(session.job))


def ungroup(bench: Bench) -> None:
    """Take what is chosen out of its group."""
    bench.session.set_group(bench.session.choice.item or "", "")


def not_grouped(bench: Bench) -> str:
    job, every = bench.session.job, bench.session.choice.every
    if any(job.items[each].group for each in every if each in job.items):
        return ""
    return nothing_chosen(bench) or "What is chosen is in no group."


def show_again(bench: Bench) -> None:
    """Show what was visible before only one thing was."""
    session, job = bench.session, bench.session.job
    for item_id, visible in session.hidden_by.items():
        if item_id in job.items and job.items[item_id].visible != visible:
            job = job.changed(item_id, visible=visible)
    session.hidden_by = {}
    if job is not session.job:
        session.commit(job, "show as before")


def nothing_hidden(bench: Bench) -> str:
    return "" if bench.session.hidden_by else "Nothing was shown alone before."


def wear(choice: str, _bench: Bench) -> None:
    themes.choose(choice)


def go(station: str, bench: Bench) -> None:
    bench.set_station(station)


COMMANDS = (
    Command("scan shown", "Show or hide scans", partial(switch, "scan"), "mesh layer", "1"),
    Command("surfaces shown", "Show or hide surfaces", partial(switch, "surfaces"), "layer", "2"),
    Command("net shown", "Show or hide the control net", partial(switch, "net"), "cage points",
            "3"),
    Command("pictures shown", "Show or hide pictures", partial(switch, "pictures"),
            "images layer", "6"),
    Command("curves shown", "Show or hide curves", partial(switch, "curves"), "lines layer"),
    Command("points shown", "Show or hide points", partial(switch, "points"), "layer"),
    Command("show only", "Show only the chosen thing", show_only, "isolate solo hide others",
            "Shift+H", short="Show only", why_not=nothing_chosen),
    Command("group", "Put what is chosen in a group", group, "folder set collect organise layer",
            "Ctrl+G", short="Group", why_not=nothing_chosen),
    Command("ungroup", "Take what is chosen out of its group", ungroup, "folder dissolve layer",
            "Ctrl+Shift+G", short="Ungroup", why_not=not_grouped),
    Command("show again", "Show what was visible before", show_again, "isolate unhide all back",
            "Ctrl+Shift+H", short="Show as before", why_not=nothing_hidden),
    *(Command(f"go to {panel}", f"Go to the {panel.capitalize()}", partial(go_to, panel),
              "focus keyboard panel", f"Ctrl+{number}")
      for number, panel in enumerate(("shelf", "card", "stage", "balance"), start=1)),
    Command("bodies shown", "Show or hide bodies", partial(switch, "bodies"), "solid layer", "8"),
    Command("fit view", "Show everything", lambda bench: bench.stage.fit(), "zoom extents all",
            "Home"),
    Command("swap", "Swap the views", lambda bench: bench.stage.swap(), "exchange"),
    Command("fold", "Fold the side light away or back", lambda bench: bench.stage.fold(),
            "hide view", "Ctrl+L"),
    *(Command(f"look {view}", f"Side light: true {view}", partial(look, view), "view ortho")
      for view in TRUE_VIEWS),
    Command("undo", "Undo", lambda bench: bench.session.undo(), "back", "Ctrl+Z"),
    Command("redo", "Redo", lambda bench: bench.session.redo(), "again forward", "Ctrl+Shift+Z"),
    Command("accept", "Accept", accept, "keep ok finish", "Return"),
    Command("escape", "One step back", escape, "cancel stop", "Esc"),
    Command("keep", "Keep the surface", keep, "done finish", short="Keep surface",
            tip="Done with it for now (Enter); Esc drops a new surface"),
    Command("less", "Halve the brush, spread less", partial(step_setting, False), "smaller", "["),
    Command("more", "Double the brush, spread more", partial(step_setting, True), "larger", "]"),
    Command("move", "Move the chosen thing, or its chosen points", partial(move, "move"),
            "translate shift place drag copy array", "M", short="Move ...", hand="place",
            fits=MOVABLE),
    Command("turn", "Turn it about an axis", partial(move, "turn"), "rotate", short="Turn ...",
            fits=MOVABLE),
    Command("scale", "Scale it, along each axis by its own factor", partial(move, "scale"),
            "size stretch resize bigger", short="Scale ...", fits=MOVABLE),
    Command("mirror", "Mirror it in a plane", partial(move, "mirror"), "flip reflect",
            short="Mirror ...", fits=MOVABLE),
    Command("delete", "Delete the chosen item", delete, "remove erase", "Del",
            why_not=nothing_chosen),
    Command("rename", "Rename the chosen item", rename, "name label", "F2",
            why_not=nothing_chosen),
    Command("hide", "Hide or show the chosen item", partial(toggle, "visible"), "visible eye", "H",
            why_not=nothing_chosen),
    Command("lock", "Lock or unlock the chosen item", partial(toggle, "locked"), "freeze protect",
            "L", why_not=nothing_chosen),
    *(Command(f"theme {choice}", words, partial(wear, choice), "theme colours dark light night")
      for choice, words in zip(CHOICES, ("Colours: as the desktop's", "Colours: Paper, light",
                                         "Colours: Slate, dark"), strict=True)),
    Command("new", "New job", lambda bench: bench.documents.new(), "document file", "Ctrl+N"),
    Command("open", "Open a job", lambda bench: bench.documents.open(), "document file load",
            "Ctrl+O"),
    Command("open demo", "Open the demo job", lambda bench: bench.documents.open_demo(),
            "example sample lure"),
    Command("first surface", "First surface: six steps on the demo scan",
            lambda bench: bench.begin_first(), "tutorial learn start help guide lesson"),
    Command("save", "Save the job", lambda bench: bench.documents.save(), "document file",
            "Ctrl+S"),
    Command("save as", "Save the job under another name",
            lambda bench: bench.documents.save_as(), "document file copy", "Ctrl+Shift+S"),
    Command("finder", "Find an action", lambda bench: bench.finder.open(), "search command palette",
            "Ctrl+Space"),
    Command("keys", "See and change keys", lambda bench: bench.cards.ask("keys"),
            "shortcuts keyboard help", "F1"),
    Command("quit", "Quit", lambda bench: bench.close(), "exit close", "Ctrl+Q"),
    *(Command(f"station {station}", f"Go to {station}", partial(go, station), "tab page",
              f"Alt+{number}") for number, station in enumerate(STATIONS, start=1)),
)  # fmt: skip
