"""Writing a file so that the old one stays whole until the new one is."""

from __future__ import annotations

import errno
import os
import stat
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from usual_clay.files.errors import FileError

# What is begun and not yet whole is called so, with the number of the process that writes it.
BEGUN = ".usual-clay-"


class ReadOnlyError(FileError):
    """A file that may not be written to: it is replaced only when the user says so."""


@contextmanager
def whole_file(path: Path, replace_read_only: bool = False) -> Iterator[Path]:
    """Give a temporary path beside a file; on success flush it and rename it over the file.

    The file that is replaced may be reached by a link, which stays one; it keeps its rights and
    its owner. What earlier processes began here and left is removed.

    Parameters
    ----------
    replace_read_only : bool
        Whether a file is replaced that may not be written to.

    Raises
    ------
    ReadOnlyError
        When the file may not be written to. It is untouched.
    FileError
        When the disk is full or the place cannot be written to. The old file is untouched.
    """
    temporary = None
    try:
        target = Path(os.path.realpath(path))
        before = target.stat() if target.exists() else None
        if before is not None and not stat.S_ISREG(before.st_mode):
            raise FileError(f"{path.name} is no file: choose another name")
        if before is not None and not replace_read_only and not before.st_mode & 0o222:
            raise ReadOnlyError(f"{path.name} is read-only: save it under another name")
        remove_leftovers(target.parent)
        handle, name = tempfile.mkstemp(
            prefix=f"{BEGUN}{os.getpid()}-", suffix=path.suffix, dir=target.parent
        )
        os.close(handle)
        temporary = Path(name)
        yield temporary
        with temporary.open("rb+") as written:
            os.fsync(written.fileno())
        _keep_rights(temporary, before)
        os.replace(temporary, target)
        _flush_folder(target.parent)
    except OSError as error:
        full = error.errno in (errno.ENOSPC, errno.EDQUOT, errno.EFBIG)
        reason = "the disk is full" if full else (error.strerror or str(error))
        kept = " The file that was there is unchanged." if path.exists() else ""
        raise FileError(f"{path.name} could not be written: {reason}.{kept}") from error
    finally:
        if temporary is not None:
            with suppress(OSError):
                temporary.unlink()


def _keep_rights(temporary: Path, before: os.stat_result | None) -> None:
    """Give a new file the rights and the owner of the one that it replaces."""
    if before is None:
        # A private temporary file gets the rights that a new file would have.
        mask = os.umask(0)
        os.umask(mask)
        temporary.chmod(0o666 & ~mask)
        return
    with suppress(OSError):
        os.chown(temporary, before.st_uid, before.st_gid)
    temporary.chmod(stat.S_IMODE(before.st_mode))


def _flush_folder(folder: Path) -> None:
    """See to it that a rename outlives a loss of power; not every file system can."""
    with suppress(OSError):
        handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)


def remove_leftovers(folder: Path) -> None:
    """Remove what processes that are gone began in a folder and did not bring to its end."""
    with suppress(OSError):
        for path in folder.glob(f"{BEGUN}*"):
            owner = path.name.removeprefix(BEGUN).split("-")[0]
            if owner.isdecimal() and not lives(int(owner)):
                with suppress(OSError):
                    path.unlink()


def lives(process: int) -> bool:
    """Tell whether a process is there."""
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True


def signature(path: Path) -> tuple[int, int, int] | None:
    """Return by what it is seen that a file is another one than it was; None where it is gone."""
    try:
        told = path.stat()
    except OSError:
        return None
    return told.st_mtime_ns, told.st_size, told.st_ino


def write_text(path: Path, text: str) -> None:
    """Write a text file whole, or leave what was there.

    Raises
    ------
    FileError
    """
    with whole_file(path) as temporary:
        temporary.write_text(text, encoding="utf-8")
