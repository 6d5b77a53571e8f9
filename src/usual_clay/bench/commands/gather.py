"""Gather: references are brought in, placed and cleaned."""

from __future__ import annotations

from functools import partial

from usual_clay.bench.bench import Bench, needs, needs_any
from usual_clay.bench.command import Command
from usual_clay.bench.edits.scans import split_at_creases
from usual_clay.bench.gestures import shape
from usual_clay.files import mesh_file, picture_file, points_file, take_in
from usual_clay.job.items import Picture, PointList, Scan

NO_SCAN = "There is no scan yet: bring one in first."
NO_LIST = "Choose a point list in the Shelf first."
POINTS_HINT = "<b>Click</b> points to ring them, or <b>drag</b> a box; <b>Ctrl</b> lets go of them."
BRUSH_HINT = (
    "<b>Drag</b> over points to ring them; <b>Ctrl</b> lets go. <b>[</b> <b>]</b> size the brush."
)


def bring_in(what: str, suffixes: tuple[str, ...], bench: Bench) -> None:
    bench.documents.bring_in(what, suffixes)


def take(tool: str, bench: Bench) -> None:
    """Take a stage tool in hand, or put it down again."""
    hand = bench.session.hand
    hand.take(None if hand.tool == tool else tool)


def take_on_scan(tool: str, bench: Bench) -> None:
    """Take a tool in hand that works on a scan; a chosen surface gives way to its region."""
    session = bench.session
    if session.hand.tool != tool and session.choice.surface() is not None:
        region = session.choice.region()
        session.choice.choose(None if region is None else region.id)
    take(tool, bench)
    bench.stage.switch("scan", True)


def ask(card: str, bench: Bench) -> None:
    """Show a card that is asked for."""
    bench.session.hand.take(None)
    bench.cards.ask(card)


def scan_at_hand(bench: Bench) -> Scan | None:
    """Return the chosen scan, that of the chosen region or surface, or the only one."""
    job = bench.session.job
    region = bench.session.choice.region()
    home = job.get(region.scan, Scan) if region is not None else None
    scans = list(job.all(Scan))
    return bench.chosen(Scan) or home or (scans[0] if len(scans) == 1 else None)


def no_scan_at_hand(bench: Bench) -> str:
    if scan_at_hand(bench) is not None:
        return ""
    return "Choose a scan first." if bench.any_of(Scan) else "Bring in a scan first."


def ask_of_scan(card: str, bench: Bench) -> None:
    """Show a card that works on a scan."""
    scan = scan_at_hand(bench)
    if scan is not None:
        bench.session.choice.choose(scan.id)
        ask(card, bench)


def split(bench: Bench) -> None:
    scan = scan_at_hand(bench)
    if scan is not None:
        bench.session.choice.choose(scan.id)
        bench.session.hand.take(None)
        split_at_creases(bench.session, scan)


def probe(bench: Bench) -> None:
    ask("probe", bench)
    card = bench.cards.get("probe")
    if not card.recorded.size:
        card.offer()


def look_square_on(bench: Bench) -> None:
    picture = bench.chosen(Picture)
    if picture is not None:
        bench.stage.look_at(picture.placement.plane, picture.name)


COMMANDS = (
    Command("bring in scan", "Bring in a scan", partial(bring_in, "a scan", mesh_file.SUFFIXES),
            "import load open mesh stl ply obj", "Ctrl+I", "Gather", "cube", "Scan"),
    Command("bring in points", "Bring in points",
            partial(bring_in, "points", points_file.SUFFIXES), "import load csv xlsx coordinates",
            "Ctrl+Shift+I", "Gather", "dots-nine", "Points"),
    Command("bring in curves", "Bring in curves: SVG, STEP, IGES",
            partial(bring_in, "curves", take_in.SUFFIXES), "import load drawing surfaces"),
    Command("pin", "Pin pictures", partial(bring_in, "pictures", picture_file.SUFFIXES),
            "import load photo image underlay reference", "Ctrl+Shift+P", "Gather", "image",
            "Picture"),
    Command("agreement", "Do the references agree?", partial(ask, "agreement"),
            "compare match scale check", "", "Gather", "scales", "Agree", fits=(Picture,)),
    Command("look square-on", "Look square-on", look_square_on, "face front align view",
            why_not=needs(Picture, "Choose a picture first."), fits=(Picture,)),
    Command("probe", "Probe points", probe, "touch digitise arm stream record", "", "Gather",
            "pencil-line", "Probe"),
    Command("replay", "Replay recorded points as a probe", lambda bench: bench.documents.replay(),
            "simulate stream"),
    Command("mark points", "Ring points by clicks or a box", partial(take, "mark points"),
            "select pick slips", "P", "Gather", "selection-plus", "Ring", hint=POINTS_HINT,
            hand="mark points", why_not=needs(PointList, NO_LIST), fits=(PointList,)),
    Command("brush points", "Ring points with a brush", partial(take, "brush points"),
            "select paint slips", hint=BRUSH_HINT, hand="brush points",
            why_not=needs(PointList, NO_LIST), fits=(PointList,)),
    Command("health", "Health of a scan", partial(ask_of_scan, "health"),
            "repair mend holes spikes noise decimate clean", "", "Gather", "heartbeat", "Health",
            why_not=no_scan_at_hand, fits=(Scan,)),
    Command("straighten", "Set a scan straight", partial(ask_of_scan, "straighten"),
            "align register orient symmetry", "", "Gather", "compass", "Straight",
            why_not=no_scan_at_hand, fits=(Scan,)),
    Command("slice", "Slice a scan", partial(ask_of_scan, "slice"), "section cut cross stations",
            "", "Gather", "knife", "Slice", why_not=no_scan_at_hand, fits=(Scan,)),
    Command("shape", "Recognise a simple shape", partial(take_on_scan, "shape"),
            "plane cylinder sphere cone hole fit primitive", "", "Gather", "polygon", "Shape",
            hint=shape.HINT, hand="shape", why_not=needs_any(Scan, NO_SCAN), fits=(Scan,)),
    Command("split", "Split a scan at creases", split, "segment regions parts",
            why_not=no_scan_at_hand, short="Split at creases",
            tip="A region of each smooth part, as a start", fits=(Scan,)),
)  # fmt: skip
