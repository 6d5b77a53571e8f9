"""The journal: what is being made, kept beside the job file in case the program ends by itself.

A folder for each running window, in the XDG state folder: arrays lie in it once, by their content,
and `job.json` tells the job as a job file does; `past.json` lists the steps of its history, each
told in a file of its own. What a window that is gone has left can be opened.
"""

from __future__ import annotations

import json
import os
import shutil
import time
import zipfile
from collections.abc import Collection, Sequence
from contextlib import suppress
from dataclasses import dataclass
from hashlib import sha256
from pathlib import Path
from typing import Any

import platformdirs

from usual_clay.files.atomic import BEGUN, lives
from usual_clay.files.errors import FileError
from usual_clay.files.job_file import JOB, PAST, described, packed
from usual_clay.job.history import Step
from usual_clay.job.job import Job
from usual_clay.log import logger

STATE, PICTURE = "state.json", "picture.png"
# So many steps of the history are kept with it, and so many new ones written at once, that take no
# more than so much, while the disk has so much left, bytes.
MOST_STEPS, MOST_FRESH, MOST_BYTES, LEAST_FREE = 60, 8, 300 << 20, 1 << 30
# What lies there already: ids of arrays and jobs with themselves, so that the ids stay theirs.
Entries = dict[int, tuple[object, str]]


@dataclass(frozen=True)
class Left:
    """What a window that is gone has left.

    Attributes
    ----------
    folder : Path
    name : str
        Of the job.
    path : str
        The file that it was opened from or saved to; empty for none.
    at : float
        When it was written, seconds since 1970.
    items : int
    picture : Path or None
        What the stage showed.
    """

    folder: Path
    name: str
    path: str
    at: float
    items: int
    picture: Path | None = None

    @property
    def when(self) -> str:
        return time.strftime("%d %b %H:%M", time.localtime(self.at))


def journal_folder() -> Path:
    """Return the folder of all journals."""
    return Path(platformdirs.user_state_dir("usual-clay", appauthor=False)) / "journal"


class Journal:
    """One window's journal. It is written off the interface thread, one job after another."""

    def __init__(self, folder: Path | None = None) -> None:
        self.folder = folder or journal_folder() / f"{os.getpid()}-{time.time_ns():x}"
        self._known: Entries = {}
        # The steps that are told there: of each its job, its entry, and its arrays.
        self._steps: dict[int, tuple[Job, str, Entries]] = {}

    def write(
        self,
        job: Job,
        path: Path | None,
        picture: bytes = b"",
        steps: Sequence[Step] = (),
    ) -> None:
        """Write a job; arrays that are there already are not written again.

        Parameters
        ----------
        picture : bytes
            A PNG of the job, small.
        steps : sequence of Step
            Of its history, the job's own among them; those nearest to it are kept.

        Raises
        ------
        FileError
        """
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            told, used = self._told(job)
            self._put(JOB, told)
            self._known = used
            self._write_steps(job, (told, used), steps)
            if picture:
                self._put(PICTURE, picture)
            state = {
                "name": job.name,
                "path": "" if path is None else str(path.absolute()),
                "at": time.time(),
                "items": len(job.items),
            }
            self._put(STATE, json.dumps(state).encode("utf-8"))
            self._drop_unused()
        except (OSError, ValueError) as error:
            raise FileError(f"the journal could not be written: {error}") from error

    def _write_steps(self, job: Job, own: tuple[bytes, Entries], steps: Sequence[Step]) -> None:
        """Write those steps of a history that fit; what is told of one already stays.

        Parameters
        ----------
        own : (bytes, Entries)
            What is told of the job itself.
        """
        near = _nearest(job, steps, self._steps)
        if shutil.disk_usage(self.folder).free < LEAST_FREE:
            near = []
        known, self._steps = self._steps, {}
        for step in near:
            mine = known.get(id(step.job))
            if mine is None:
                told, used = own if step.job is job else self._told(step.job)
                entry = f"{sha256(told).hexdigest()[:40]}.json"
                self._put(entry, told)
                mine = step.job, entry, used
            self._steps[id(step.job)] = mine
            self._known |= mine[2]
        listed = [{"words": step.words, "job": self._steps[id(step.job)][1]} for step in near]
        at = next((k for k, step in enumerate(near) if step.job is job), 0)
        self._put(PAST, json.dumps({"steps": listed, "at": at}).encode("utf-8"))

    def _told(self, job: Job) -> tuple[bytes, Entries]:
        """Write a job's arrays; return what is told of it, and the arrays that it takes."""
        used: Entries = {}
        told = described(job, lambda name, array: self._keep(name, array, used))
        return json.dumps(told, allow_nan=False).encode("utf-8"), used

    def _keep(self, name: str, array: Any, used: Entries) -> str:
        """Write an array or bytes under the name of their content; return that."""
        known = self._known.get(id(array)) or used.get(id(array))
        if known is not None and known[0] is array:
            used[id(array)] = known
            return known[1]
        data = packed(array)
        kind = name.rpartition(".")[2] if isinstance(array, bytes) else "npy"
        entry = f"{sha256(data).hexdigest()[:40]}.{kind}"
        if not (self.folder / entry).exists():
            self._put(entry, data)
        used[id(array)] = (array, entry)
        return entry

    def _put(self, name: str, data: bytes) -> None:
        begun = self.folder / f"{BEGUN}{os.getpid()}-{name}"
        begun.write_bytes(data)
        os.replace(begun, self.folder / name)

    def _drop_unused(self) -> None:
        kept = {entry for _, entry in self._known.values()} | {JOB, PAST, STATE, PICTURE}
        kept |= {entry for _, entry, _ in self._steps.values()}
        for path in self.folder.iterdir():
            if path.name not in kept:
                with suppress(OSError):
                    path.unlink()

    def end(self) -> None:
        """Remove the journal: what it holds is saved, or dropped by the user."""
        self._known, self._steps = {}, {}
        shutil.rmtree(self.folder, ignore_errors=True)


def left_behind() -> list[Left]:
    """Return what windows that are gone have left, the newest first."""
    found = []
    with suppress(OSError):
        for folder in journal_folder().iterdir():
            owner = folder.name.split("-")[0]
            if not owner.isdecimal() or lives(int(owner)):
                continue
            try:
                told = json.loads((folder / STATE).read_text(encoding="utf-8"))
                name, path = str(told["name"])[:200], str(told["path"])
                shown = folder / PICTURE
                found.append(
                    Left(folder, name, path, float(told["at"]), int(told["items"]),
                         shown if shown.exists() else None)
                )  # fmt: skip
            except (OSError, ValueError, KeyError, TypeError):
                # It ended before its first job was whole: there is nothing to recover.
                shutil.rmtree(folder, ignore_errors=True)
    return sorted(found, key=lambda left: -left.at)


def recovered(left: Left) -> Path:
    """Return what was left as a job file, in the journal's folder.

    Raises
    ------
    FileError
    """
    path = left.folder / "recovered.uclay"
    try:
        job = (left.folder / JOB).read_text(encoding="utf-8")
        past = _past_of(left.folder)
        with zipfile.ZipFile(path, "w") as archive:
            entries = _entries(json.loads(job))
            if past is not None:
                told, steps, arrays = past
                archive.writestr(PAST, told)
                for entry, step in steps.items():
                    archive.writestr(entry, step, zipfile.ZIP_DEFLATED)
                entries |= arrays
            for entry in sorted(entries):
                archive.write(left.folder / entry, entry, zipfile.ZIP_STORED)
            archive.writestr(JOB, job)
    except (OSError, ValueError, zipfile.BadZipFile) as error:
        raise FileError(f"what {left.name} left cannot be read: {error}") from error
    return path


def _past_of(folder: Path) -> tuple[str, dict[str, str], set[str]] | None:
    """Return the list of the steps that a journal holds, each as it is told, and the arrays that
    they take; None where they are not whole, as of a journal that was being written: the job
    itself is."""
    try:
        told = (folder / PAST).read_text(encoding="utf-8")
        names = _entries(json.loads(told))
        steps = {name: (folder / name).read_text(encoding="utf-8") for name in names}
        arrays = set[str]().union(*(_entries(json.loads(step)) for step in steps.values()))
        missing = [entry for entry in arrays if not (folder / entry).exists()]
    except (OSError, ValueError) as error:
        logger.info("no history was left: %s", error)
        return None
    return None if missing else (told, steps, arrays)


def _entries(told: Any) -> set[str]:
    """Return the names of all files that a description names."""
    if isinstance(told, dict):
        return set().union(*(_entries(value) for value in told.values()))
    if isinstance(told, list):
        return set().union(*(_entries(value) for value in told))
    is_name = isinstance(told, str) and len(told.partition(".")[0]) == 40 and "/" not in told
    return {told} if is_name else set()


def _nearest(job: Job, steps: Sequence[Step], known: Collection[int]) -> list[Step]:
    """Return those steps around a job's own that are not too many, take not too much, and are
    known already but for a few: those farther off come when it is written again."""
    at = next((k for k, step in enumerate(steps) if step.job is job), None)
    if at is None:
        return []
    low, high = at, at + 1
    left = _Room(MOST_STEPS, MOST_FRESH, MOST_BYTES)
    # What can be undone goes before what can be done again.
    while low > 0 and left.takes(steps[low - 1], known):
        low -= 1
    while high < len(steps) and left.takes(steps[high], known):
        high += 1
    return list(steps[low:high])


@dataclass
class _Room:
    """How many steps may be kept still, how many of them new, and how much they may take."""

    steps: int
    fresh: int
    size: int

    def takes(self, step: Step, known: Collection[int]) -> bool:
        """Take a step where there is room for it; tell whether there was."""
        self.steps -= 1
        self.fresh -= id(step.job) not in known
        self.size -= step.alone
        return min(self.steps, self.fresh, self.size) >= 0


def drop(left: Left) -> None:
    """Let go of what was left."""
    shutil.rmtree(left.folder, ignore_errors=True)
