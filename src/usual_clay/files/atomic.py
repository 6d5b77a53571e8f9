"""Writing a file so that the old one stays whole until the new one is."""

from __future__ import annotations

import errno
import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from usual_clay.files.errors import FileError


@contextmanager
def whole_file(path: Path) -> Iterator[Path]:
    """Give a temporary path beside `path`; on success flush it and rename it over `path`.

    Raises
    ------
    FileError
        When the disk is full or the place cannot be written to. The old file is untouched.
    """
    temporary = None
    try:
        handle, name = tempfile.mkstemp(prefix=".", suffix=path.suffix, dir=path.parent)
        os.close(handle)
        temporary = Path(name)
        yield temporary
        with temporary.open("rb+") as written:
            os.fsync(written.fileno())
        # A private temporary file gets the rights that a new file would have.
        mask = os.umask(0)
        os.umask(mask)
        temporary.chmod(0o666 & ~mask)
        os.replace(temporary, path)
    except OSError as error:
        full = error.errno in (errno.ENOSPC, errno.EDQUOT, errno.EFBIG)
        reason = "the disk is full" if full else (error.strerror or str(error))
        kept = " The file that was there is unchanged." if path.exists() else ""
        raise FileError(f"{path.name} could not be written: {reason}.{kept}") from error
    finally:
        if temporary is not None:
            with suppress(OSError):
                temporary.unlink()


def write_text(path: Path, text: str) -> None:
    """Write a text file whole, or leave what was there.

    Raises
    ------
    FileError
    """
    with whole_file(path) as temporary:
        temporary.write_text(text, encoding="utf-8")
