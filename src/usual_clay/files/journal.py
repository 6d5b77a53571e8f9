"""The journal: what is being made, kept beside the job file in case the program ends by itself.

A folder for each running window, in the XDG state folder: arrays lie in it once, by their content,
and `job.json` tells the job as a job file does. What a window that is gone has left can be opened.
"""

from __future__ import annotations

import json
import os
import shutil
import time
import zipfile
from contextlib import suppress
from dataclasses import dataclass
from hashlib import sha256
from pathlib import Path
from typing import Any

import platformdirs

from usual_clay.files.atomic import BEGUN, lives
from usual_clay.files.errors import FileError
from usual_clay.files.job_file import described, packed
from usual_clay.job.job import Job

STATE, PICTURE = "state.json", "picture.png"


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
        # Arrays that lie there already, with themselves: their ids stay theirs.
        self._known: dict[int, tuple[object, str]] = {}

    def write(self, job: Job, path: Path | None, picture: bytes = b"") -> None:
        """Write a job; arrays that are there already are not written again.

        Parameters
        ----------
        picture : bytes
            A PNG of the job, small.

        Raises
        ------
        FileError
        """
        try:
            self.folder.mkdir(parents=True, exist_ok=True)
            used: dict[int, tuple[object, str]] = {}
            told = described(job, lambda name, array: self._keep(name, array, used))
            self._put("job.json", json.dumps(told, allow_nan=False).encode("utf-8"))
            if picture:
                self._put(PICTURE, picture)
            state = {
                "name": job.name,
                "path": "" if path is None else str(path.absolute()),
                "at": time.time(),
                "items": len(job.items),
            }
            self._put(STATE, json.dumps(state).encode("utf-8"))
            self._known = used
            self._drop_unused()
        except (OSError, ValueError) as error:
            raise FileError(f"the journal could not be written: {error}") from error

    def _keep(self, name: str, array: Any, used: dict[int, tuple[object, str]]) -> str:
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
        kept = {entry for _, entry in self._known.values()} | {"job.json", STATE, PICTURE}
        for path in self.folder.iterdir():
            if path.name not in kept:
                with suppress(OSError):
                    path.unlink()

    def end(self) -> None:
        """Remove the journal: what it holds is saved, or dropped by the user."""
        self._known = {}
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
        told = json.loads((left.folder / "job.json").read_text(encoding="utf-8"))
        with zipfile.ZipFile(path, "w") as archive:
            for entry in sorted(_entries(told)):
                archive.write(left.folder / entry, entry, zipfile.ZIP_STORED)
            archive.writestr("job.json", json.dumps(told))
    except (OSError, ValueError, zipfile.BadZipFile) as error:
        raise FileError(f"what {left.name} left cannot be read: {error}") from error
    return path


def _entries(told: Any) -> set[str]:
    """Return the names of all files that a description names."""
    if isinstance(told, dict):
        return set().union(*(_entries(value) for value in told.values()))
    if isinstance(told, list):
        return set().union(*(_entries(value) for value in told))
    is_name = isinstance(told, str) and len(told.partition(".")[0]) == 40 and "/" not in told
    return {told} if is_name else set()


def drop(left: Left) -> None:
    """Let go of what was left."""
    shutil.rmtree(left.folder, ignore_errors=True)
