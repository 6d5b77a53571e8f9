"""The session: the open job, what is chosen, and every edit that the interface can make."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QObject, Signal

from usual_clay.bench.marking import Marking
from usual_clay.bench.remaking import Remaking
from usual_clay.bench.work import Work
from usual_clay.core.arrays import Bools, Floats, Ints
from usual_clay.core.check.deviation import Report, Tolerance
from usual_clay.core.fit.parameterize.frame import FrameError
from usual_clay.core.fit.search.candidates import Candidate
from usual_clay.core.fit.search.fairness import Fairness
from usual_clay.core.fit.solve.system import FitError
from usual_clay.core.picture.outline import OutlineError
from usual_clay.core.picture.placement import PlacementError
from usual_clay.core.points.ball import BallError
from usual_clay.core.points.project import ProjectError
from usual_clay.core.scan.mend import MendError
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.motion import MotionError
from usual_clay.core.scan.region import spread
from usual_clay.core.scan.section import SectionError
from usual_clay.core.scan.shapes import ShapeError
from usual_clay.core.spline.basis import SplineError
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.files.errors import FileError
from usual_clay.files.job_file import read_job, write_job
from usual_clay.job.history import History
from usual_clay.job.items import Curve, Followed, Item, ItemId, PointList, Region, Scan, Surface
from usual_clay.job.job import Job, JobError
from usual_clay.job.remake import with_quick_followers

EXPECTED = (
    FitError,
    FrameError,
    SplineError,
    FileError,
    JobError,
    BallError,
    ProjectError,
    SectionError,
    ShapeError,
    OutlineError,
    PlacementError,
    MotionError,
    MendError,
)


def sentence(words: object) -> str:
    """Return what an error or a function says as a sentence."""
    text = str(words)
    stop = "" if not text or text.endswith((".", "!", "?")) else "."
    return f"{text[:1].upper()}{text[1:]}{stop}"


class Session(QObject):
    """What the panels show and change. Panels know the session, not each other.

    Signals
    -------
    job_changed : another job is shown (an edit, a result, undo, opening)
    chosen_changed : another item is chosen
    searching : Balance has a new candidate of a running search
    tool_changed : another tool is in hand, or its settings changed
    told : words for the user; "trouble" or "news" first
    """

    job_changed = Signal()
    chosen_changed = Signal()
    searching = Signal()
    tool_changed = Signal()
    told = Signal(str, str)

    def __init__(self) -> None:
        super().__init__()
        self.history = History(Job())
        self.work = Work(self)
        self.path: Path | None = None
        self.chosen: ItemId | None = None
        self.tool: str | None = None
        self.marking: Marking | None = None
        self.front_only = True
        self.stop_at_creases = False
        self.spread_amount = 0.3
        self.brush_radius = 2.0
        self.seed: tuple[ItemId, int] | None = None
        self.fresh: ItemId | None = None
        self.trouble: dict[ItemId, str] = {}
        self.search_words: dict[ItemId, str] = {}
        self.found: list[Candidate] = []
        # The front of the chosen surface as far as it is computed by itself.
        self.front: list[Candidate] = []
        # How calm the chosen surface is, with the shape that this was worked out of.
        self.calm: tuple[BSplineSurface, Fairness] | None = None
        self.suggested: Ints = np.zeros(0, dtype=np.int64)
        self.control_points: frozenset[int] = frozenset()
        # Which points of the chosen curve are edited: "control" or "through".
        self.point_kind = "control"
        self.comb_scale = 1.0
        self.comb_density = 1.0
        # What clicks and drags are drawn to: "things", "grid" or "nothing".
        self.snapping = "things"
        self.nudge_step = 0.1
        # What a click on a surface's net takes, and how far neighbours follow a move.
        self.pick = "point"
        # What a drag beside the points draws to choose those inside: "box" or "lasso".
        self.outline = "box"
        self.soft_reach, self.falloff = 0.0, "round"
        # How surfaces lay before the last move of the hand.
        self.before_move: dict[ItemId, Report] = {}
        # The view in which a hand drags just now.
        self.dragging: object | None = None
        # What a card shows on the stage: polylines, (n, 3), or single points, (1, 3).
        self.lit: list[Floats] = []
        self._saved = self.job
        self._proposal: Job | None = None
        self.making = Remaking(self)

    # ---- the job shown -------------------------------------------------------------------

    @property
    def job(self) -> Job:
        """The job as it stands, without a proposal."""
        return self.history.job

    @property
    def shown(self) -> Job:
        """The job to show: the live proposal of a gesture, if there is one."""
        return self._proposal or self.job

    @property
    def is_saved(self) -> bool:
        return self.job is self._saved

    @property
    def is_proposing(self) -> bool:
        """Whether a gesture or a card shows a job that is not kept yet."""
        return self._proposal is not None

    def propose(self, job: Job | None) -> None:
        """Show a job that is not kept yet; None drops it."""
        self._proposal = job
        self.job_changed.emit()

    def show_moved(self, item: Item) -> None:
        """Show an item as a hand shapes it just now, with what follows it at once."""
        self.propose(with_quick_followers(self.job.with_item(item), item.id))

    def commit(self, job: Job, words: str, onto_last: bool = False) -> None:
        """Keep an edit, and remake what follows from it."""
        self._proposal = None
        self.history.commit(job, words, onto_last)
        self._after_edit()

    def undo(self) -> None:
        words = self.history.undo_words
        self._proposal = None
        self.history.undo()
        self._after_edit()
        self.told.emit("news", f"Undone: {words}." if words else "There is nothing to undo.")

    def redo(self) -> None:
        words = self.history.redo_words
        self._proposal = None
        self.history.redo()
        self._after_edit()
        self.told.emit("news", f"Done again: {words}." if words else "There is nothing to redo.")

    def _after_edit(self) -> None:
        if self.chosen not in self.job.items:
            self.choose(None)
        self.making.follow()
        self.job_changed.emit()

    # ---- tools ---------------------------------------------------------------------------

    def take_tool(self, tool: str | None) -> None:
        """Take a tool in hand; None puts it down."""
        if tool != self.tool:
            self.tool = tool
            if tool != "mark":
                self.marking = None
            self.tool_changed.emit()

    def mark(self, marking: Marking | None) -> None:
        """Let marks be set on the stage; None ends it."""
        self.marking = marking
        self.take_tool(None if marking is None else "mark")
        self.tool_changed.emit()

    def set_marking(self, marking: Marking) -> None:
        """Show other marks."""
        self.marking = marking
        self.tool_changed.emit()

    def mark_points(self, which: Ints) -> None:
        """Ring points of the chosen list."""
        self.suggested = which
        self.job_changed.emit()

    def choose_points(self, which: Iterable[int]) -> None:
        """Choose control points of the chosen curve."""
        self.control_points = frozenset(which)
        self.tool_changed.emit()

    def edit_points(self, kind: str) -> None:
        """Edit control points or through-points of the chosen curve."""
        self.point_kind, self.control_points = kind, frozenset()
        self.tool_changed.emit()

    def set_comb(self, scale: float, density: float | None = None) -> None:
        """Set how long the comb's quills are, 0 hides them, and how dense they stand."""
        self.comb_scale = scale
        self.comb_density = self.comb_density if density is None else density
        self.tool_changed.emit()

    def set_pick(self, pick: str) -> None:
        """Set what a click on a surface's net takes: a point, its row, or its column."""
        self.pick = pick
        self.tool_changed.emit()

    def set_outline(self, word: str) -> None:
        """Set what a drag draws to choose control points."""
        self.outline = word
        self.tool_changed.emit()

    def set_soft(self, reach: float, falloff: str) -> None:
        """Set how many legs of a net follow a move, and how."""
        self.soft_reach, self.falloff = reach, falloff
        self.tool_changed.emit()

    def set_snapping(self, word: str) -> None:
        """Set what clicks and drags are drawn to."""
        self.snapping = word
        self.tool_changed.emit()

    def light(self, lines: list[Floats]) -> None:
        """Show lines and points on the stage; none ends it."""
        self.lit = lines
        self.tool_changed.emit()

    def set_choosing(self, front_only: bool, stop_at_creases: bool) -> None:
        """Set what lasso, box and brush take of a scan."""
        self.front_only, self.stop_at_creases = front_only, stop_at_creases
        self.tool_changed.emit()

    def set_brush(self, radius: float) -> None:
        self.brush_radius = float(np.clip(radius, 0.05, 500.0))
        self.tool_changed.emit()

    def set_spread(self, amount: float) -> None:
        """Change how far a spread goes; the last one follows live."""
        self.spread_amount = float(np.clip(amount, 0.0, 1.0))
        scan = self.job.get(self.seed[0], Scan) if self.seed is not None else None
        if scan is not None and self.seed is not None and self.job.get(self.chosen, Region):
            mask = spread(scan.mesh, self.seed[1], self.spread_amount)
            self.put_region(scan, mask, "spread", onto_last=True)
        self.tool_changed.emit()

    # ---- choosing ------------------------------------------------------------------------

    def choose(self, item_id: ItemId | None) -> None:
        if item_id != self.chosen:
            self.chosen = item_id
            self.found = []
            self.suggested = np.zeros(0, dtype=np.int64)
            self.lit = []
            # Leaving a curve ends its editing.
            self.control_points = frozenset()
            curve = self.job.get(item_id, Curve)
            recipe = None if curve is None else curve.recipe
            drawn = recipe is not None and recipe.kind == "drawn"
            through = drawn and recipe.settings.kind != "controls"  # type: ignore[union-attr]
            self.point_kind = "through" if through else "control"
            if self.fresh != item_id:
                self.fresh = None
            self.chosen_changed.emit()

    def chosen_surface(self) -> Surface | None:
        return self.shown.get(self.chosen, Surface)

    def chosen_fitted(self) -> Surface | Curve | None:
        """Return the chosen item if it is one that costs control points."""
        return self.chosen_surface() or self.shown.get(self.chosen, Curve)

    def measured(self, surface: Surface) -> Region | PointList | None:
        """Return the region or loose points that judge a surface."""
        return self.shown.measured(surface)

    def chosen_region(self) -> Region | None:
        """Return the chosen region, or the one a chosen surface follows."""
        surface = self.chosen_surface()
        if surface is not None and surface.recipe is not None:
            return self.shown.get(surface.recipe.sources[0], Region)
        return self.shown.get(self.chosen, Region)

    # ---- small edits ---------------------------------------------------------------------

    def set_tolerance(self, tolerance: Tolerance) -> None:
        if tolerance != self.job.tolerance:
            self.commit(replace(self.job, tolerance=tolerance), "tolerance", onto_last=True)

    def rename(self, item_id: ItemId, name: str) -> None:
        name = name.strip()
        if item_id in self.job.items and name and name != self.job.items[item_id].name:
            self.commit(self.job.changed(item_id, name=self.job.free_name(name)), "rename")

    def set_flag(self, item_id: ItemId, flag: str, value: bool) -> None:
        word = {"visible": ("hide", "show"), "locked": ("unlock", "lock")}[flag][value]
        self.commit(self.job.changed(item_id, **{flag: value}), word)

    def set_colour(self, item_id: ItemId, colour: str) -> None:
        """Give an item a colour of its own; an empty one is its kind's again."""
        self.commit(self.job.changed(item_id, colour=colour), "colour")

    def delete(self, item_id: ItemId) -> None:
        try:
            name = self.job.items[item_id].name
            self.work.drop(item_id)
            self.commit(self.job.without(item_id), f"delete {name}")
        except JobError as error:
            self.told.emit("trouble", str(error))

    # ---- regions -------------------------------------------------------------------------

    def put_region(self, scan: Scan, mask: Bools, words: str, onto_last: bool = False) -> None:
        """Make the mask the chosen region of a scan: a new one, or in place of the old."""
        old = self.shown.get(self.chosen, Region)
        vertices = np.flatnonzero(mask)
        if old is not None and old.scan == scan.id:
            self._proposal = None
            self.change(old, words, onto_last, vertices=vertices)
            return
        name = self.job.free_name("Region 1")
        region = Region(id=self.job.new_id("region"), name=name, scan=scan.id, vertices=vertices)
        self.commit(self.job.with_item(region), words)
        self.choose(region.id)

    def region_mask(self, scan: Scan) -> Bools:
        """Return the chosen region of a scan as a mask, empty where there is none."""
        mask = np.zeros(len(scan.mesh.vertices), dtype=bool)
        region = self.shown.get(self.chosen, Region)
        if region is not None and region.scan == scan.id:
            mask[region.vertices] = True
        return mask

    # ---- what follows from other items ---------------------------------------------------

    def may_change(self, item: Item) -> bool:
        """Tell whether an item is not locked; where it is, say so."""
        if item.locked:
            self.told.emit("trouble", f"{item.name} is locked: unlock it in the Shelf first")
            self.job_changed.emit()
        return not item.locked

    def add(self, item: Item, words: str) -> None:
        """Add an item and choose it."""
        self.commit(self.job.with_item(item), words)
        self.choose(item.id)

    def change(self, item: Item, words: str, onto_last: bool = False, **fields: Any) -> None:
        """Change fields of an item that is not locked."""
        if self.may_change(item):
            self.commit(self.job.changed(item.id, **fields), words, onto_last)

    def set_recipe(self, item: Followed, settings: Any, words: str, **fields: Any) -> None:
        """Change the settings that an item is made by; it is made anew, live."""
        assert item.recipe is not None
        if settings != item.recipe.settings:
            recipe = replace(item.recipe, settings=settings)
            self.change(item, words, onto_last=True, recipe=recipe, **fields)

    def set_loose(self, item: Followed) -> None:
        """Let an item stop following its sources; it keeps its shape."""
        self.change(item, f"set {item.name} loose", recipe=None, made_of=None)

    def fail(self, item_id: ItemId, error: Exception) -> None:
        """Say what went wrong with an item, and keep it for its card."""
        if not isinstance(error, EXPECTED):
            self.told.emit("trouble", f"This should not have happened: {error!r}")
            return
        self.trouble[item_id] = str(error)
        self.told.emit("trouble", str(error))
        self.job_changed.emit()

    def stop_work(self) -> bool:
        """Stop what the user asked for and is waiting for; tell whether there was any."""
        searches = [f"search {item.id}" for item in self.job.all(Followed)]
        busy = [
            key
            for key in ("cast", "bring in", "ask", "look", *searches)
            if self.work.is_wanted(key)
        ]
        for key in busy:
            # A search has a best so far; the others have nothing to show yet.
            (self.work.cancel if key in searches else self.work.drop)(key)
        return bool(busy)

    # ---- files ---------------------------------------------------------------------------

    def add_scan(
        self, mesh: TriangleMesh, source: str, unit: str, colours: np.ndarray | None = None
    ) -> None:
        """Add a scan that was read from a file."""
        job = self.job
        if not job.items and self.path is None:
            job = replace(job, name=Path(source).stem)
        scan = Scan(
            id=job.new_id("scan"),
            name=job.free_name(Path(source).stem),
            mesh=mesh,
            source=source,
            unit=unit,
            colours=colours,
        )
        self.commit(job.with_item(scan), f"bring in {source}")
        self.choose(scan.id)

    def open(self, path: Path) -> bool:
        """Open a job file; on trouble the open job stays as it was."""
        try:
            job = read_job(path)
        except FileError as error:
            self.told.emit("trouble", str(error))
            return False
        self._replace(job, path)
        return True

    def new(self) -> None:
        self._replace(Job(), None)

    def _replace(self, job: Job, path: Path | None) -> None:
        for item in self.job.all(Followed):
            self.work.drop(item.id)
            self.work.drop(f"search {item.id}")
        for key in ("cast", "ask", "look"):
            self.work.drop(key)
        self.history = History(job)
        self._saved, self._proposal, self.path = job, None, path
        self.making.forget()
        self.trouble, self.search_words = {}, {}
        self.choose(None)
        self._after_edit()

    def save(self, path: Path) -> bool:
        try:
            write_job(path, self.job)
        except FileError as error:
            self.told.emit("trouble", str(error))
            return False
        if self.path is None or path != self.path:
            renamed = replace(self.job, name=path.stem)
            if self.job.name == Job().name:
                self.history.amend(renamed)
                write_job(path, self.job)
        self.path, self._saved = path, self.job
        self.job_changed.emit()
        self.told.emit("news", f"Saved {path.name}.")
        return True
