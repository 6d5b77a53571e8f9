"""What every action is called, its key, its place in the rail, and what of the window it runs."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from usual_clay.bench.actions import Action, Actions
from usual_clay.bench.stage.camera import TRUE_VIEWS
from usual_clay.files import mesh_file, picture_file, points_file, take_in

if TYPE_CHECKING:
    from usual_clay.bench.window import Window


def fill(table: Actions, w: Window) -> None:
    """Put every action of the window into the table."""
    session, stage, documents = w.session, w.stage, w.documents
    for action in (
        Action("bring in scan", "Bring in a scan", "Ctrl+I",
               partial(documents.bring_in, "a scan", mesh_file.SUFFIXES), "Gather", "cube", "Scan"),
        Action("bring in points", "Bring in points", "Ctrl+Shift+I",
               partial(documents.bring_in, "points", points_file.SUFFIXES), "Gather", "dots-nine",
               "Points"),
        Action("bring in curves", "Bring in curves: SVG, STEP, IGES", "",
               partial(documents.bring_in, "curves", take_in.SUFFIXES)),
        Action("pin", "Pin pictures", "Ctrl+Shift+P",
               partial(documents.bring_in, "pictures", picture_file.SUFFIXES), "Gather", "image",
               "Picture"),
        Action("agreement", "Do the references agree?", "", lambda: w.ask("agreement"), "Gather",
               "scales", "Agree"),
        Action("probe", "Probe points", "", lambda: w.ask("probe"), "Gather", "pencil-line",
               "Probe"),
        Action("replay", "Replay recorded points as a probe", "", documents.replay),
        Action("mark points", "Ring points by clicks or a box", "P",
               lambda: w.take("mark points"), "Gather", "selection-plus", "Ring"),
        Action("brush points", "Ring points with a brush", "", lambda: w.take("brush points")),
        Action("health", "Health of a scan", "", lambda: w.ask("health"), "Gather", "heartbeat",
               "Health"),
        Action("straighten", "Set a scan straight", "", lambda: w.ask("straighten"), "Gather",
               "compass", "Straight"),
        Action("slice", "Slice a scan", "", lambda: w.ask("slice"), "Gather", "knife", "Slice"),
        Action("shape", "Recognise a simple shape", "", lambda: w.take("shape"), "Gather",
               "polygon", "Shape"),
        Action("split", "Split a scan at creases", "", lambda: w.ask("split")),
        Action("draw", "Draw a curve", "C", lambda: w.ask("draw"), "Trace", "pen-nib", "Draw"),
        Action("spline", "Spline through the chosen points", "", w.spline, "Trace", "activity",
               "Spline"),
        Action("parts", "Splines in parts: between true corners and ringed points", "", w.parts),
        Action("tolerance of curve", "To tolerance: fewest control points of a spline", "",
               w.to_tolerance, "Trace", "target", "Tolerance"),
        Action("task bridge", "Bridge two curves", "", partial(w.task, "bridge"), "Trace", "link",
               "Bridge"),
        Action("task pair", "Pair two views into space", "", partial(w.task, "pair"), "Trace",
               "intersect", "Pair"),
        Action("task offset", "Offset a curve", "", partial(w.task, "offset"), "Trace",
               "columns", "Offset"),
        Action("task slim", "Slim a curve", "", partial(w.task, "slim"), "Trace", "leaf",
               "Slim"),
        Action("task fair", "Fair a curve within a band", "", partial(w.task, "fair"), "Trace",
               "wind", "Fair"),
        Action("task arc", "How far is it an arc?", "", partial(w.task, "arc"), "Trace",
               "rainbow", "Arc?"),
        Action("holds", "Holds of the chosen curve", "", w.holds, "Trace",
               "push-pin", "Holds"),
        *(Action(f"task {kind}", words, "", partial(w.task, kind)) for kind, words in (
            ("extend", "Extend a curve"), ("split", "Split or trim a curve"),
            ("chain", "Join curves that meet"), ("copy", "Copy a curve along an axis"),
            ("across", "Set a profile across a curve"),
            ("laid", "Lay a curve onto a plane, a surface or a scan"),
            ("in surface", "Take an edge, an isocurve or a cut of a surface"),
            ("extend surface", "Extend a surface"), ("split surface", "Split a surface"),
            ("border of surface", "Make a border a pole, straight or flat"),
            ("mirror surface", "Make a surface symmetric"),
            ("even surface", "Even out a surface's control points"),
            ("match surface", "Match a surface's border to another's"))),
        Action("double", "Double the chosen surface", "", w.double),
        Action("solve together", "Solve patches that share borders together", "",
               w.solve_together),
        Action("shape scan", "Shape the scan by a surface", "", w.shape_scan),
        Action("twin", "Twin of the chosen curve", "", w.twin, "Trace", "copy", "Twin"),
        Action("comb", "Show or hide the comb", "7", w.toggle_comb, "Trace", "rows", "Comb"),
        Action("spread", "Spread a region", "S", lambda: w.take("spread"), "Surface", "drop",
               "Spread"),
        Action("brush", "Brush a region", "B", lambda: w.take("brush"), "Surface", "paint-brush",
               "Brush"),
        Action("lasso", "Choose a region by a lasso", "", lambda: w.take("lasso"), "Surface",
               "scribble-loop", "Lasso"),
        Action("box", "Choose a region by a box", "", lambda: w.take("box"), "Surface",
               "selection", "Box"),
        Action("cast", "Cast a surface over the region", "D", w.cast, "Surface", "waves",
               "Cast"),
        Action("patch", "Four-corner patch: draw its borders, or pick them", "", w.patch,
               "Surface", "frame-corners", "Patch"),
        Action("to tolerance", "To tolerance: fewest control points", "T", w.to_tolerance,
               "Surface", "target", "Tolerance"),
        Action("task slim surface", "Slim a surface", "", partial(w.task, "slim surface"),
               "Surface", "leaf", "Slim"),
        Action("sections", "Sections through surface and scan, side by side", "", w.sections,
               "Check", "stack", "Sections"),
        Action("deviation", "Deviation colours", "4", lambda: stage.switch("colours"), "Check",
               "thermometer", "Deviation"),
        Action("plain form", "Judge the plain form", "5", lambda: _plain(w), "Check", "sun",
               "Form"),
        Action("step", "Write STEP", "Ctrl+E", lambda: documents.deliver(".step"), "Deliver",
               "export", "STEP"),
        Action("iges", "Write IGES", "", lambda: documents.deliver(".igs"), "Deliver",
               "export", "IGES"),
        Action("stl", "Write STL triangles", "", lambda: documents.deliver(".stl"), "Deliver",
               "triangle", "STL"),
        Action("svg", "Write curves as SVG, true scale", "", lambda: documents.deliver(".svg"),
               "Deliver", "export", "SVG"),
        Action("csv", "Write points along curves as CSV", "", lambda: documents.deliver(".csv"),
               "Deliver", "dots-nine", "CSV"),
        Action("scan shown", "Show or hide scans", "1", lambda: stage.switch("scan")),
        Action("surfaces shown", "Show or hide surfaces", "2", lambda: stage.switch("surfaces")),
        Action("net shown", "Show or hide the control net", "3", lambda: stage.switch("net")),
        Action("pictures shown", "Show or hide pictures", "6", lambda: stage.switch("pictures")),
        Action("fit view", "Show everything", "Home", stage.fit),
        Action("swap", "Swap the views", "", stage.swap),
        Action("fold", "Fold the side light away or back", "Ctrl+L", stage.fold),
        *(Action(f"look {name}", f"Side light: true {name}", "", partial(stage.look, name))
          for name in TRUE_VIEWS),
        Action("undo", "Undo", "Ctrl+Z", session.undo),
        Action("redo", "Redo", "Ctrl+Shift+Z", session.redo),
        Action("accept", "Accept", "Return", w.accept),
        Action("escape", "One step back", "Esc", w.escape),
        Action("keep", "Keep the surface", "", w.keep),
        Action("less", "Halve the brush, spread less", "[", lambda: w.step_setting(False)),
        Action("more", "Double the brush, spread more", "]", lambda: w.step_setting(True)),
        Action("delete", "Delete the chosen item", "Del", w.delete),
        Action("rename", "Rename the chosen item", "F2", w.rename),
        Action("hide", "Hide or show the chosen item", "H", lambda: w.toggle_flag("visible")),
        Action("lock", "Lock or unlock the chosen item", "L", lambda: w.toggle_flag("locked")),
        Action("new", "New job", "Ctrl+N", documents.new),
        Action("open", "Open a job", "Ctrl+O", documents.open),
        Action("open demo", "Open the demo job", "", documents.open_demo),
        Action("save", "Save the job", "Ctrl+S", documents.save),
        Action("save as", "Save the job under another name", "Ctrl+Shift+S", documents.save_as),
        Action("finder", "Find an action", "Ctrl+Space", lambda: w.finder.open()),
        Action("keys", "See and change keys", "F1", lambda: w.cards.ask("keys")),
        Action("quit", "Quit", "Ctrl+Q", w.close),
    ):  # fmt: skip
        table.add(action)
    for number, station in enumerate(w.top_bar.stations, start=1):
        go = partial(w.set_station, station)
        table.add(Action(f"station {station}", f"Go to {station}", f"Alt+{number}", go))


def _plain(w: Window) -> None:
    """Show surfaces as plain clay, without net, colours or scan; and back again."""
    shown = w.stage.scene.shown
    plain = shown.scan or shown.net or shown.colours
    for name in ("scan", "net", "colours"):
        w.stage.switch(name, not plain)
    w.stage.switch("surfaces", True)
