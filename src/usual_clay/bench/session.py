"""The session: the open job, what is chosen, and every edit that the interface can make."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QObject, Signal

from usual_clay.bench.work import Work
from usual_clay.core.arrays import Bools, Ints
from usual_clay.core.check.deviation import Aim
from usual_clay.core.fit.budget import Candidate, Search, to_tolerance
from usual_clay.core.fit.drape import DrapeSettings, Start
from usual_clay.core.fit.frame import FrameError
from usual_clay.core.fit.sample import Sample
from usual_clay.core.fit.system import FitError
from usual_clay.core.progress import Progress
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.region import spread
from usual_clay.core.spline.basis import even_knots
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.files.errors import FileError
from usual_clay.files.job_file import read_job, write_job
from usual_clay.job.history import History
from usual_clay.job.items import Basis, ItemId, Region, Scan, Surface
from usual_clay.job.job import Job, JobError, sample_of
from usual_clay.job.recipes import Recipe
from usual_clay.job.remake import basis_of, remake, stale, with_drape

EXPECTED = (FitError, FrameError, FileError, JobError)


@dataclass(frozen=True)
class _Known:
    """Where a fit ended, for the next one of the same points on the same base."""

    sample: Sample
    settings: DrapeSettings
    start: Start

    def fits(self, sample: Sample, settings: DrapeSettings) -> bool:
        return self.sample is sample and self.settings.same_base(settings)


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
        self.spread_amount = 0.3
        self.brush_radius = 2.0
        self.seed: tuple[ItemId, int] | None = None
        self.fresh: ItemId | None = None
        self.trouble: dict[ItemId, str] = {}
        self.search_words: dict[ItemId, str] = {}
        self.found: list[Candidate] = []
        self.suggested: Ints = np.zeros(0, dtype=np.int64)
        self._saved = self.job
        self._proposal: Job | None = None
        self._starts: dict[ItemId, _Known] = {}
        self._making: dict[ItemId, Basis] = {}
        self._samples: dict[int, tuple[object, Sample]] = {}

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

    def propose(self, job: Job | None) -> None:
        """Show a job that is not kept yet; None drops it."""
        self._proposal = job
        self.job_changed.emit()

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
        for surface_id in stale(self.job):
            self._remake(surface_id)
        self.job_changed.emit()

    # ---- tools ---------------------------------------------------------------------------

    def take_tool(self, tool: str | None) -> None:
        """Take a tool in hand; None puts it down."""
        if tool != self.tool:
            self.tool = tool
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
            if self.fresh != item_id:
                self.fresh = None
            self.chosen_changed.emit()

    def chosen_surface(self) -> Surface | None:
        return self.shown.get(self.chosen, Surface)

    def chosen_region(self) -> Region | None:
        """Return the chosen region, or the one a chosen surface follows."""
        surface = self.chosen_surface()
        if surface is not None and surface.recipe is not None:
            return self.shown.get(surface.recipe.sources[0], Region)
        return self.shown.get(self.chosen, Region)

    # ---- small edits ---------------------------------------------------------------------

    def set_aim(self, aim: Aim) -> None:
        if aim != self.job.aim:
            self.commit(replace(self.job, aim=aim), "tolerance", onto_last=True)

    def rename(self, item_id: ItemId, name: str) -> None:
        name = name.strip()
        if item_id in self.job.items and name and name != self.job.items[item_id].name:
            self.commit(self.job.changed(item_id, name=self.job.free_name(name)), "rename")

    def set_flag(self, item_id: ItemId, flag: str, value: bool) -> None:
        word = {"visible": ("hide", "show"), "locked": ("unlock", "lock")}[flag][value]
        self.commit(self.job.changed(item_id, **{flag: value}), word)

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
            if old.locked:
                self.told.emit("trouble", f"{old.name} is locked: unlock it in the Shelf first")
                self.propose(None)
                return
            self.commit(self.job.changed(old.id, vertices=vertices), words, onto_last)
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

    # ---- draping -------------------------------------------------------------------------

    def start_drape(self, region: Region, settings: DrapeSettings) -> None:
        """Add a surface over a region; its first shape comes as soon as it is computed."""
        # A place holder that no one sees: the item is added with its first real shape.
        blank = BSplineSurface(even_knots(2, 1), even_knots(2, 1), np.zeros((2, 2, 3)))
        surface = Surface(
            id=self.job.new_id("surface"),
            name=self.job.free_name(f"{region.name} drape"),
            geometry=blank,
            recipe=Recipe("drape", (region.id,), settings),
        )
        basis, sample = basis_of(self.job, surface), self.sample(region)
        assert basis is not None

        def task(progress: Progress, _partial: object) -> tuple[Surface, Start]:
            return remake(surface, basis, [sample], None, progress)

        def done(result: tuple[Surface, Start]) -> None:
            made, start = result
            if region.id in self.job.items and made.id not in self.job.items:
                self._starts[made.id] = _Known(sample, settings, start)
                self.commit(self.job.with_item(made), f"drape {region.name}")
                self.fresh = made.id
                self.choose(made.id)

        self.work.start(
            "drape", f"Draping {region.name}", task, done, failed=lambda e: self._fail(region.id, e)
        )

    def set_drape(self, surface: Surface, settings: DrapeSettings, words: str) -> None:
        """Change a drape's settings and fit it anew, live."""
        if surface.locked:
            self.told.emit("trouble", f"{surface.name} is locked: unlock it in the Shelf first")
            self.job_changed.emit()
            return
        assert surface.recipe is not None
        old = surface.recipe.settings
        if settings == old:
            return
        # What was computed with other settings is no candidate any more.
        keeps = settings.sized(old.nu, old.nv) == old
        candidates = surface.candidates if keeps else ()
        self.search_words.pop(surface.id, None)
        recipe = replace(surface.recipe, settings=settings)
        job = self.job.changed(surface.id, recipe=recipe, candidates=candidates)
        self.commit(job, words, onto_last=True)

    def sample(self, region: Region) -> Sample:
        """Return a region's points, with what was worked out from them before."""
        kept = self._samples.get(id(region.vertices))
        if kept is None or kept[0] is not region.vertices:
            kept = (region.vertices, sample_of(self.job, region))
            self._samples = dict(list(self._samples.items())[-8:])
            self._samples[id(region.vertices)] = kept
        return kept[1]

    def known_noise(self, region: Region) -> float:
        """Return a region's noise in mm; 0 until it has been estimated in the background."""
        sample = self.sample(region)
        if sample.knows_noise:
            return sample.noise
        key = f"noise {region.id}"
        if not self.work.is_busy(key):
            self.work.start(key, "", lambda *_: sample.noise, lambda _: self.searching.emit())
        return 0.0

    def _remake(self, surface_id: ItemId) -> None:
        surface = self.job.items[surface_id]
        assert isinstance(surface, Surface)
        basis = basis_of(self.job, surface)
        assert basis is not None
        asked_before = basis.same_as(self._making.get(surface_id))
        if asked_before and (self.work.is_busy(surface_id) or surface_id in self.trouble):
            return
        self._making[surface_id] = basis
        region = self.job.items[basis.recipe.sources[0]]
        assert isinstance(region, Region)
        sample = self.sample(region)
        known = self._starts.get(surface_id)
        start = known.start if known and known.fits(sample, basis.recipe.settings) else None

        def task(progress: Progress, partial: Callable[[Any], None]) -> tuple[Surface, Start]:
            return remake(surface, basis, [sample], start, progress, partial)

        def put(made: Surface) -> None:
            now = self.job.get(surface_id, Surface)
            if now is not None and basis.same_as(basis_of(self.job, now)):
                kept = ("geometry", "signed", "candidates", "made_of")
                fields = {name: getattr(made, name) for name in kept}
                self.history.amend(self.job.changed(surface_id, **fields))
                self.job_changed.emit()

        def done(result: tuple[Surface, Start]) -> None:
            self._starts[surface_id] = _Known(sample, basis.recipe.settings, result[1])
            self.trouble.pop(surface_id, None)
            put(result[0])

        self.work.start(
            surface_id, f"Fitting {surface.name}", task, done, put,
            failed=lambda error: self._fail(surface_id, error),
        )  # fmt: skip

    def _fail(self, item_id: ItemId, error: Exception) -> None:
        if not isinstance(error, EXPECTED):
            self.told.emit("trouble", f"This should not have happened: {error!r}")
            return
        self.trouble[item_id] = str(error)
        self.told.emit("trouble", str(error))
        self.job_changed.emit()

    # ---- to tolerance --------------------------------------------------------------------

    def search(self, surface: Surface) -> None:
        """Look for the fewest control points within tolerance."""
        assert surface.recipe is not None
        region = self.job.get(surface.recipe.sources[0], Region)
        if region is None or surface.locked:
            reason = "its region is gone" if region is None else "it is locked"
            self.told.emit("trouble", f"{surface.name} cannot be fitted: {reason}")
            return
        recipe, aim = surface.recipe, self.job.aim
        sample = self.sample(region)
        self.found = []

        def task(progress: Progress, partial: Callable[[Any], None]) -> Search:
            return to_tolerance(sample, recipe.settings, aim, progress=progress, found=partial)

        def partial(candidate: Candidate) -> None:
            pair = (candidate.nu, candidate.nv)
            self.found = [c for c in self.found if (c.nu, c.nv) != pair]
            self.found.append(candidate)
            self.searching.emit()

        def done(found: Search) -> None:
            self.found = []
            now = self.job.get(surface.id, Surface)
            if now is None or now.recipe != recipe:
                return
            changed = replace(
                now, recipe=replace(recipe, settings=found.settings), candidates=found.candidates
            )
            self._starts[surface.id] = _Known(sample, found.settings, found.drape.start)
            self.search_words[surface.id] = found.words
            made = with_drape(changed, found.drape, basis_of(self.job, changed))
            self.commit(self.job.with_item(made), "to tolerance")
            self.told.emit("news", found.words)

        self.work.start(
            f"search {surface.id}", "To tolerance:", task, done, partial,
            failed=lambda error: self._fail(surface.id, error),
        )  # fmt: skip

    def stop_work(self) -> bool:
        """Stop what the user asked for and is waiting for; tell whether there was any."""
        asked = ["drape", "bring in", *(f"search {s.id}" for s in self.job.all(Surface))]
        busy = [key for key in asked if self.work.is_busy(key)]
        for key in busy:
            self.work.cancel(key)
        return bool(busy)

    # ---- files ---------------------------------------------------------------------------

    def add_scan(self, mesh: TriangleMesh, source: str, unit: str) -> None:
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
        for surface in self.job.all(Surface):
            self.work.drop(surface.id)
            self.work.drop(f"search {surface.id}")
        self.work.drop("drape")
        self.history = History(job)
        self._saved, self._proposal, self.path = job, None, path
        self._starts, self._samples, self.trouble, self.search_words = {}, {}, {}, {}
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
