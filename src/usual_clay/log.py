"""The log: what happened, kept in the XDG state folder, so that a fault can be looked into."""

from __future__ import annotations

import faulthandler
import logging
import sys
from logging.handlers import RotatingFileHandler
from pathlib import Path

import platformdirs

from usual_clay import __version__

LARGEST, KEPT = 1_000_000, 3
FAULT, LAST_FAULT = "fault.log", "last-fault.log"
FORMAT = "%(asctime)s %(levelname)s %(name)s: %(message)s"
logger = logging.getLogger("usual_clay")


def log_folder() -> Path:
    """Return the folder of the log; it need not be there."""
    return Path(platformdirs.user_state_dir("usual-clay", appauthor=False))


def start_log(debug: bool = False) -> Path | None:
    """Write the log to its file from now on, and what ends the process to one beside it.

    With `debug` everything is kept, and printed besides. Where the folder cannot be written to,
    there is no log, which is said once; the work goes on.

    Returns
    -------
    Path or None
        The log's file.
    """
    logger.setLevel(logging.DEBUG if debug else logging.INFO)
    for old in list(logger.handlers):
        logger.removeHandler(old)
        old.close()
    if debug:
        printed = logging.StreamHandler(sys.stderr)
        printed.setFormatter(logging.Formatter(FORMAT))
        logger.addHandler(printed)
    folder = log_folder()
    try:
        folder.mkdir(parents=True, exist_ok=True)
        _keep_last_fault(folder)
        path = folder / "usual-clay.log"
        kept = RotatingFileHandler(path, maxBytes=LARGEST, backupCount=KEPT, encoding="utf-8")
        # Open for as long as the process lives: it is written when that ends in C code.
        faulthandler.enable((folder / FAULT).open("a", encoding="utf-8"))
    except OSError as error:
        print(f"usual-clay: no log in {folder}: {error.strerror}", file=sys.stderr)
        return None
    kept.setFormatter(logging.Formatter(FORMAT))
    logger.addHandler(kept)
    logger.info("Usual Clay %s begins, Python %s", __version__, sys.version.split()[0])
    return path


def _keep_last_fault(folder: Path) -> None:
    """Put aside what an earlier process wrote as it ended in C code."""
    told = folder / FAULT
    if told.exists() and told.stat().st_size:
        told.replace(folder / LAST_FAULT)


def take_last_fault() -> str:
    """Return, once, what an earlier process wrote as it ended in C code; empty for nothing."""
    told = log_folder() / LAST_FAULT
    try:
        words = told.read_text(encoding="utf-8", errors="replace")
        told.unlink()
    except OSError:
        return ""
    return words
