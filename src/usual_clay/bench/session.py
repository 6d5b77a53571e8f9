"""The session: the open job and its history. What is chosen, the hand and the sight are parts."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Any

from PySide6.QtCore import QEventLoop, QObject, Signal

from usual_clay.bench.choice import Choice
from usual_clay.bench.guard import faults
from usual_clay.bench.hand import Hand
from usual_clay.bench.sight import Sight
from usual_clay.bench.sources import Sources
from usual_clay.bench.work import Request, Work
from usual_clay.core.check.deviation import Tolerance
from usual_clay.core.errors import ClayError
from usual_clay.core.memory import give_back
from usual_clay.files.atomic import ReadOnlyError, signature
from usual_clay.files.errors import FileError
from usual_clay.files.job_file import read_or_sound, read_steps, write_job
from usual_clay.files.shared import Shared
from usual_clay.job.edits import make
from usual_clay.job.edits.arrange import in_group
from usual_clay.job.edits.shaping import places_of, shaped, with_moved
from usual_clay.job.edits.surfaces import all_measured, forget_feet, is_measured_of
from usual_clay.job.history import History
from usual_clay.job.items import Followed, Item, ItemId
from usual_clay.job.job import Job, JobError, forget
from usual_clay.job.remake import with_quick_followers
from usual_clay.log import logger

# So much of what is missing in a damaged file is told.
MOST_TOLD = 3


class Session(QObject):
    """What the panels show and change. Panels know the session, not each other.

    Attributes
    ----------
    choice, hand, sight : Choice, Hand, Sight
    work : Work
    sources : Sources
    trouble, notes : mapping of item id to words
        What went wrong with an item, and what the user should know of it, for its card.

    Signals
    -------
    job_changed : another job is shown (an edit, a result, undo, opening)
    edited : the job itself is another: what is stale is to be made anew
    replaced : another job was opened, or a new one begun
    seen_changed : another tool, other points chosen, another view setting: what is drawn changes
    told : words for the user; "trouble" or "news" first
    """

    job_changed = Signal()
    edited = Signal()
    replaced = Signal()
    seen_changed = Signal()
    told = Signal(str, str)

    def __init__(self) -> None:
        super().__init__()
        self.history = History(Job())
        self.work = Work(self)
        self.choice = Choice(lambda: self.shown)
        self.hand = Hand()
        self.sight = Sight()
        self.sources = Sources(lambda: self.job)
        self.path: Path | None = None
        self.trouble: dict[ItemId, str] = {}
        self.notes: dict[ItemId, str] = {}
        self._saved = self.job
        self._seen: tuple[int, int, int] | None = None
        # What was visible before only one thing was shown.
        self.hidden_by: dict[ItemId, bool] = {}
        self._proposal: Job | None = None
        self.choice.changed.connect(self.sight.forget)
        self.choice.ringed_changed.connect(self.job_changed)
        for part in (self.choice.points_changed, self.hand.changed, self.sight.changed):
            part.connect(self.seen_changed)
        self.work.failed.connect(self._failed)

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
        # A file is written with everything measured.
        return self.job is self._saved or is_measured_of(self.job, self._saved)

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
        job, moved = with_moved(self.job, item)
        for each in moved:
            job = with_quick_followers(job, each)
        self.propose(job)

    def commit(self, job: Job, words: str, onto_last: bool = False) -> None:
        """Keep an edit, and remake what follows from it."""
        self._proposal = None
        self.history.commit(job, words, onto_last)
        self._after_edit()

    def amend(self, job: Job) -> None:
        """Put a result that was computed into the present step of the history."""
        self.history.amend(job)
        self._leave_out_gone()
        self.job_changed.emit()

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
        if self.choice.item not in self.job.items:
            self.choice.choose(None)
        self._leave_out_gone()
        self.edited.emit()
        self.job_changed.emit()

    def _leave_out_gone(self) -> None:
        """Choose no points that are no longer there."""
        curve = shaped(self.job, self.choice.item)
        if curve is not None:
            self.choice.points_left(len(places_of(curve, self.choice.point_kind)))

    # ---- small edits ---------------------------------------------------------------------

    def set_tolerance(self, tolerance: Tolerance) -> None:
        if tolerance != self.job.tolerance:
            self.commit(replace(self.job, tolerance=tolerance), "tolerance", onto_last=True)

    def rename(self, item_id: ItemId, name: str) -> None:
        name = name.strip()
        if item_id in self.job.items and name and name != self.job.items[item_id].name:
            self.commit(self.job.changed(item_id, name=self.job.free_name(name)), "rename")

    def set_flag(self, item_id: ItemId, flag: str, value: bool) -> None:
        """Set a flag of an item, and of all that is chosen with it."""
        word = {"visible": ("hide", "show"), "locked": ("unlock", "lock")}[flag][value]
        self._change_each(item_id, word, **{flag: value})

    def _change_each(self, item_id: ItemId, word: str, **fields: Any) -> None:
        job, every = self.job, self.choice.besides(item_id)
        for each in every:
            job = job.changed(each, **fields)
        self.commit(job, word if len(every) == 1 else f"{word} {len(every)} things")

    def set_group(self, item_id: ItemId, group: str) -> None:
        """Put an item, and all chosen with it, in a group; with no name in none."""
        job = in_group(self.job, self.choice.besides(item_id), group)
        if job is not self.job:
            self.commit(job, f"put in {group}" if group else "take out of the group")

    def set_colour(self, item_id: ItemId, colour: str) -> None:
        """Give an item, and all chosen with it, a colour; an empty one is its kind's again."""
        self._change_each(item_id, "colour", colour=colour)

    def delete(self, item_id: ItemId) -> None:
        """Delete an item, and all that is chosen with it."""
        every, job = self.choice.besides(item_id), self.job
        name = job.items[item_id].name if len(every) == 1 else f"{len(every)} things"
        try:
            for each in every:
                # A scan takes its regions along.
                if each in job.items:
                    self.work.drop(each)
                    job = job.without(each)
            self.commit(job, f"delete {name}")
        except JobError as error:
            self.told.emit("trouble", str(error))

    def may_change(self, item: Item) -> bool:
        """Tell whether an item is not locked; where it is, say so."""
        if item.locked:
            self.told.emit("trouble", f"{item.name} is locked: unlock it in the Shelf first")
            self.job_changed.emit()
        return not item.locked

    def add(self, item: Item, words: str) -> None:
        """Add an item and choose it."""
        self.commit(self.job.with_item(item), words)
        self.choice.choose(item.id)

    def change(self, item: Item, words: str, onto_last: bool = False, **fields: Any) -> None:
        """Change fields of an item that is not locked."""
        if self.may_change(item):
            self.commit(self.job.changed(item.id, **fields), words, onto_last)

    def set_loose(self, item: Followed) -> None:
        """Let an item stop following its sources; it keeps its shape."""
        if self.may_change(item):
            self.commit(make.loosened(self.job, item), f"set {item.name} loose")

    # ---- what is told --------------------------------------------------------------------

    def note(self, item_id: ItemId, words: str) -> None:
        """Keep what the user should know of an item for its card; empty words end it."""
        self.notes[item_id] = words
        self.job_changed.emit()

    def fail(self, item_id: ItemId, error: Exception) -> None:
        """Say what went wrong with an item, and keep it for its card."""
        if not isinstance(error, ClayError):
            faults.take(error, f"work on {item_id}")
            return
        self.trouble[item_id] = str(error)
        self.told.emit("trouble", str(error))
        self.job_changed.emit()

    def _failed(self, request: Request, error: Exception) -> None:
        self.fail(request.owner, error)

    def stop_work(self) -> bool:
        """Stop what the user asked for and is waiting for; tell whether there was any."""
        waited_for = [request for request in self.work.all() if request.asked]
        for request in waited_for:
            self.work.cancel(request)
        return bool(waited_for)

    # ---- files ---------------------------------------------------------------------------

    def open(self, path: Path, shared: Shared | None = None) -> bool:
        """Open a job file; on trouble the open job stays as it was.

        Parameters
        ----------
        shared : Shared, optional
            Keeps what is read, for other jobs of the same file.
        """
        try:
            self.show_opened(path, *read_or_sound(path, shared))
        except FileError as error:
            self.told.emit("trouble", str(error))
            return False
        return True

    def show_opened(self, path: Path, job: Job, missing: Sequence[str]) -> None:
        """Go on with a job that was read; of a damaged file without that file, telling what is
        missing."""
        if not missing:
            self._replace(job, path)
            return
        # The file stays as it is: it is not saved over.
        self._replace(replace(job, name=f"{job.name} recovered"), None)
        self._saved = Job()
        self.job_changed.emit()
        words = "; ".join(missing[:MOST_TOLD])
        more = f"; and {len(missing) - MOST_TOLD} more" if len(missing) > MOST_TOLD else ""
        self.told.emit("trouble", f"{path.name} is damaged. Missing: {words}{more}.")

    def recover(self, path: Path, known: str) -> bool:
        """Open what was not saved; it counts as not saved still, under the name that it had."""
        shared = Shared()
        if not self.open(path, shared):
            return False
        if self.path is not None:
            # All of it was sound: the history that led there may be, too.
            self._bring_back(path, shared)
        self.path = Path(known) if known else None
        self._seen = None if self.path is None else signature(self.path)
        self._saved = Job()
        self.job_changed.emit()
        self.told.emit("news", "Recovered. Save it to keep it.")
        return True

    def _bring_back(self, path: Path, shared: Shared) -> None:
        """Bring back the history that lies beside a recovered job, without its own step."""
        try:
            steps, at = read_steps(path, shared)
        except FileError as error:
            logger.warning("%s", error)
            return
        if steps:
            steps[at] = steps[at][0], self.job
            self.history = History.of(steps, at)

    def new(self) -> None:
        self._replace(Job(), None)

    def let_go(self) -> None:
        """Let go of the job: the window is gone, and what still knows the session holds nothing."""
        self.history, self._saved, self._proposal = History(Job()), Job(), None
        self.sources.forget()
        forget()
        forget_feet()

    def _replace(self, job: Job, path: Path | None) -> None:
        self.work.cancel_all()
        self.history = History(job)
        self._saved, self._proposal, self.path = job, None, path
        self._seen = None if path is None else signature(path)
        self.trouble, self.notes = {}, {}
        self.sources.forget()
        forget()
        forget_feet()
        self.choice.choose(None)
        self.replaced.emit()
        self._after_edit()
        give_back()

    def save(self, path: Path, replace_read_only: bool = False) -> bool:
        """Save the job; the window goes on answering until it is written.

        Raises
        ------
        ReadOnlyError
            Where the file may not be written to.
        """
        if self.work.find("", "save") is not None:
            self.told.emit("news", "It is being saved already.")
            return False
        if path != self.path and self.job.name == Job().name:
            self.history.amend(replace(self.job, name=path.stem))
        job = self.job
        came: list[Exception | None] = []
        loop = QEventLoop()
        request = self.work.start(
            "",
            "save",
            f"Saving {path.name}",
            lambda *_: write_job(path, all_measured(job), replace_read_only),
            lambda _none: came.append(None),
            failed=came.append,
        )
        ended = partial(_leave, loop, request)
        self.work.ended.connect(ended)
        while request in self.work.all():
            loop.exec()
        self.work.ended.disconnect(ended)
        error = came[0] if came else FileError(f"{path.name} was not saved: it was stopped.")
        if isinstance(error, ReadOnlyError):
            raise error
        if error is not None:
            if not isinstance(error, ClayError):
                faults.take(error, "saving")
            self.told.emit("trouble", str(error))
            return False
        self.path, self._saved, self._seen = path, job, signature(path)
        self.job_changed.emit()
        self.told.emit("news", f"Saved {path.name}.")
        return True

    @property
    def is_changed_outside(self) -> bool:
        """Whether the job's file is another one than it was when it was opened or saved."""
        return self.path is not None and signature(self.path) not in (self._seen, None)


def _leave(loop: QEventLoop, mine: Request, ended: Request) -> None:
    """End a loop with the request that it waits for."""
    if ended is mine:
        loop.quit()
