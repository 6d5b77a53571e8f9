"""The job file, `.uclay`: a zip of one `job.json` and the arrays it names, as `.npy`.

Version 3; versions 1 and 2 are read too. Described for users in docs/guide.md. What is opened is
checked first: no entry may lie outside, be larger than it says, hold objects, or disagree with the
JSON that names it; and no recipe may take what its kind does not.
"""

from __future__ import annotations

import io
import json
import tokenize
import zipfile
import zlib
from collections.abc import Callable
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np

from usual_clay.core.check.deviation import Tolerance
from usual_clay.files.atomic import whole_file
from usual_clay.files.errors import FileError
from usual_clay.files.item_files import text
from usual_clay.files.job_items import describe
from usual_clay.files.job_versions import brought_up
from usual_clay.files.shared import Shared
from usual_clay.job.edits.make import check_roles
from usual_clay.job.items import Followed, Item
from usual_clay.job.job import Job
from usual_clay.job.recipe_kind import RecipeError
from usual_clay.job.recipes import kind_of
from usual_clay.job.remake import basis_of
from usual_clay.log import logger

SUFFIX = ".uclay"
# What tells of the job, and of the steps of its history where they lie beside it.
JOB, PAST = "job.json", "past.json"
FORMAT, VERSION = "usual-clay-job", 3
# Whatever a file that makes no sense can raise.
WRONG = (
    KeyError,
    TypeError,
    ValueError,
    AttributeError,
    IndexError,
    EOFError,
    zlib.error,
    NotImplementedError,
    RuntimeError,
    RecursionError,
    OverflowError,
    MemoryError,
    SyntaxError,
    tokenize.TokenError,
    RecipeError,
)
LARGEST_ENTRY = 2 << 30
LARGEST_JSON = 32 << 20
MOST_ENTRIES = 20_000


def write_job(path: Path, job: Job, replace_read_only: bool = False) -> None:
    """Write a job; the old file stays whole until the new one is.

    Raises
    ------
    FileError
    """
    try:
        _write(path, job, replace_read_only)
    except (ValueError, TypeError, KeyError, AttributeError) as error:
        # A job that cannot be written down: it stays open, and nothing is lost by saying so.
        logger.exception("a job could not be written")
        reason = str(error)[:200] or type(error).__name__
        raise FileError(f"{path.name} could not be written: {reason}") from error


def _write(path: Path, job: Job, replace_read_only: bool) -> None:
    with (
        whole_file(path, replace_read_only) as temporary,
        zipfile.ZipFile(temporary, "w") as archive,
    ):

        def keep(name: str, array: Any) -> str:
            if isinstance(array, bytes):
                # A picture is packed already; a body's shape is a file of its own kind too.
                entry = f"bodies/{name}" if name.endswith(".brep") else f"pictures/{name}"
                archive.writestr(entry, array, zipfile.ZIP_STORED)
                return entry
            entry = f"arrays/{name}.npy"
            archive.writestr(entry, packed(array), zipfile.ZIP_DEFLATED, compresslevel=1)
            return entry

        words = json.dumps(described(job, keep), indent=1, allow_nan=False)
        archive.writestr(JOB, words, zipfile.ZIP_DEFLATED)


def packed(array: Any) -> bytes:
    """Return an array as the bytes of its file; bytes as they are."""
    if isinstance(array, bytes):
        return array
    buffer = io.BytesIO()
    np.lib.format.write_array(buffer, np.asarray(array), allow_pickle=False)
    return buffer.getvalue()


def described(job: Job, keep: Callable[[str, Any], str]) -> dict[str, Any]:
    """Return what a file tells of a job; `keep` takes arrays and returns their entries' names."""
    return {
        "format": FORMAT,
        "version": VERSION,
        "name": job.name,
        "tolerance": asdict(job.tolerance),
        "next_number": job.next_number,
        "items": [describe(job, item, keep) for item in job.items.values()],
    }


def read_job(path: Path, shared: Shared | None = None) -> Job:
    """Open a job file.

    Parameters
    ----------
    shared : Shared, optional
        Keeps what is read, for other jobs of the same file.

    Raises
    ------
    FileError
        When it is missing, cut off, damaged, of a newer version, or not what it says it is.
    """
    return _read(path, None, shared)


def read_sound(path: Path) -> tuple[Job, list[str]]:
    """Open what of a damaged job file is sound; return it, and what is missing and why.

    Raises
    ------
    FileError
        When nothing of it is.
    """
    missing: list[str] = []
    job = _read(path, missing)
    if not job.items:
        raise FileError(f"{path.name} is damaged: nothing of it can be read")
    return job, missing


def read_or_sound(path: Path, shared: Shared | None = None) -> tuple[Job, list[str]]:
    """Open a job file, or of a damaged one what is sound; return it, and what is missing and why.

    Raises
    ------
    FileError
        When nothing of it is, or it is no job file that this version reads.
    """
    try:
        return read_job(path, shared), []
    except FileError as error:
        try:
            job, missing = read_sound(path)
        except FileError:
            raise error from None
        if not missing:
            raise
        return job, missing


def read_steps(path: Path, shared: Shared) -> tuple[list[tuple[str, Job]], int]:
    """Return the steps of the history that lies in a file beside its job, each with the words of
    its edit, and which of them is that job; no step where there is none.

    Raises
    ------
    FileError
    """
    try:
        with zipfile.ZipFile(path) as archive:
            if PAST not in archive.namelist():
                return [], 0
            told = json.loads(archive.read(PAST))
            steps = [
                (text(step["words"]), _job_in(archive, step["job"], path.name, None, shared))
                for step in told["steps"]
            ]
            return steps, range(len(steps)).index(told["at"])
    except (OSError, zipfile.BadZipFile, *WRONG) as error:
        raise FileError(f"the history in {path.name} cannot be read: {error}") from error


def _read(path: Path, missing: list[str] | None, shared: Shared | None = None) -> Job:
    damaged = f"{path.name} is damaged or no job file"
    try:
        with zipfile.ZipFile(path) as archive:
            _check_entries(archive)
            return _job_in(archive, JOB, path.name, missing, shared or Shared())
    except FileNotFoundError:
        raise FileError(f"{path.name} is not there any more") from None
    except zipfile.BadZipFile as error:
        raise FileError(f"{damaged}: {error}. Nothing was opened") from error
    except OSError as error:
        raise FileError(f"{path.name} cannot be opened: {error.strerror or error}") from error
    except WRONG as error:
        reason = str(error) or type(error).__name__
        raise FileError(f"{damaged}: {reason[:200]}. Nothing was opened") from error


def _check_entries(archive: zipfile.ZipFile) -> None:
    entries = archive.infolist()
    if len(entries) > MOST_ENTRIES:
        raise ValueError(f"{len(entries)} entries are too many")
    for entry in entries:
        parts = Path(entry.filename).parts
        if entry.filename.startswith("/") or "\\" in entry.filename or ".." in parts:
            raise ValueError(f"the entry {entry.filename!r} points outside the file")
        limit = LARGEST_JSON if entry.filename == JOB else LARGEST_ENTRY
        if entry.file_size > limit:
            raise ValueError(f"the entry {entry.filename!r} is too large")


def _job_in(
    archive: zipfile.ZipFile, entry: str, name: str, missing: list[str] | None, shared: Shared
) -> Job:
    """Return the job that an entry of an archive tells of."""
    description = json.loads(archive.read(entry).decode("utf-8"))
    if description["format"] != FORMAT:
        raise ValueError(f"its {JOB} is of another kind")
    if not isinstance(description["version"], int):
        raise ValueError("its version is no number")
    if description["version"] > VERSION:
        raise FileError(
            f"{name} was saved by a newer version of Usual Clay (file version"
            f" {description['version']}, this one reads {VERSION}). Update to open it"
        )

    description = brought_up(description)

    def read(entry: Any, kind: str | None, shape: tuple[int | None, ...] = ()) -> Any:
        if not isinstance(entry, str):
            raise ValueError("an entry has no name")
        return shared.array(
            entry,
            (kind, shape),
            lambda: archive.read(entry) if kind is None else _array(archive, entry, kind, shape),
        )

    items: dict[str, Item] = {}
    tolerance = Tolerance(**{key: float(value) for key, value in description["tolerance"].items()})
    every: list[Any] = []
    for told in description["items"]:
        try:
            known, item = shared.item(told, read, items)
            if item.id in items:
                raise ValueError(f"two items have the id {item.id}")
        except (*WRONG, zipfile.BadZipFile, FileError) as error:
            if missing is None:
                raise
            missing.append(_left_out(told, error))
            continue
        every.append(known)
        items[item.id] = item
    job = Job(text(description["name"]), items, tolerance, int(description["next_number"]))
    for told in every:
        followed = job.get(told["id"], Followed)
        if followed is None or followed.recipe is None:
            continue
        try:
            if not job.is_loose(followed):
                check_roles(job, kind_of(followed.recipe.kind), followed.recipe)
        except RecipeError as error:
            if missing is None:
                raise
            missing.append(f"{followed.name} follows nothing any more: {error}")
            job = job.changed(followed.id, recipe=None)
            continue
        if not told["recipe"]["stale"]:
            job = job.with_item(shared.made_of(followed, basis_of(job, followed)))
    return job


def _left_out(told: Any, error: Exception) -> str:
    name = told.get("name") if isinstance(told, dict) else None
    words = str(error)[:120] or type(error).__name__
    return f"{name if isinstance(name, str) else 'an item'}: {words}"


def _array(archive: zipfile.ZipFile, entry: str, kind: str, shape: tuple[int | None, ...]) -> Any:
    """Read one array after checking its header against the entry's size and the wanted shape."""
    size = archive.getinfo(entry).file_size
    with archive.open(entry) as stream:
        version = np.lib.format.read_magic(stream)
        if version != (1, 0):
            raise ValueError(f"{entry} has an unknown array version")
        found, fortran, dtype = np.lib.format.read_array_header_1_0(stream)
        fits = len(found) == len(shape) and all(
            want is None or want == have for want, have in zip(shape, found, strict=True)
        )
        count = int(np.prod(found, dtype=np.float64))
        if dtype.hasobject or dtype.kind != kind or fortran or not fits:
            raise ValueError(f"{entry} has the wrong shape {found} or type {dtype}")
        if size - stream.tell() != count * dtype.itemsize:
            raise ValueError(f"{entry} is shorter or longer than it says")
        array = np.frombuffer(stream.read(), dtype=dtype).reshape(found)
    array = array.astype(np.float64 if kind == "f" else np.int64)
    if kind == "f" and not np.isfinite(array).all():
        raise ValueError(f"{entry} holds numbers that are not finite")
    return array
