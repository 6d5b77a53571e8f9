"""The command line: the window, and the same work without one."""

from __future__ import annotations

import argparse
import atexit
import gc
import importlib
import os
import re
import sys
from collections.abc import Sequence
from pathlib import Path
from types import ModuleType
from typing import Any, NoReturn

from threadpoolctl import threadpool_limits

from usual_clay import __version__
from usual_clay.cli.codes import BAD_INPUT, FAULT, MET, STOPPED
from usual_clay.cli.settings import InputError
from usual_clay.core.errors import ClayError
from usual_clay.log import log_folder, logger, start_log

# The module of each command, if it has one of its own: for one no other is imported.
COMMANDS = {
    "app": "",
    "demo": "",
    "shots": "",
    "check": "check",
    "fit": "fit",
    "float": "afloat",
    "make": "make",
    "points": "points",
    "report": "report",
    "lines": "lines",
    "slice": "scan",
    "scan": "scan",
    "trace": "trace",
}


def main(arguments: list[str] | None = None) -> int:
    """Run a command and return its exit code."""
    words = _joined(sys.argv[1:] if arguments is None else arguments)
    # It may stand anywhere, before a command's name and after it.
    debug = "--debug" in words
    start_log(debug)
    for stream in (sys.stdout, sys.stderr):
        # A terminal that knows fewer letters shows a mark in their place.
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="replace")
    try:
        words = [word for word in words if word != "--debug"]
        options = _parser(words).parse_args(words)
        _check_written(options)
        code = int(options.command(options))
        sys.stdout.flush()
        return code
    except KeyboardInterrupt:
        print("usual-clay: stopped; nothing was written half", file=sys.stderr)
        return STOPPED
    except BrokenPipeError:
        # Whoever read what is printed has gone: that is no fault.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return MET
    except ClayError as error:
        print(f"usual-clay: {error}", file=sys.stderr)
        return BAD_INPUT
    except Exception:
        logger.exception("unexpected error")
        if debug:
            raise
        print(
            "usual-clay: something went wrong that should not have; the details are in"
            f" {log_folder()}",
            file=sys.stderr,
        )
        return FAULT


def run() -> NoReturn:
    """Do a command as a process of its own, and end it as soon as that is done."""
    code = main()
    if "PySide6" in sys.modules:
        # A window has threads of its own that come to their end.
        sys.exit(code)
    atexit._run_exitfuncs()
    sys.stderr.flush()
    # To take all modules down would take a quarter of a second.
    os._exit(code)


def _check_written(options: argparse.Namespace) -> None:
    """Refuse files that cannot be written before anything is worked out for them.

    Raises
    ------
    InputError
    """
    for name in ("out", "report"):
        path = getattr(options, name, None)
        if not isinstance(path, Path):
            continue
        folder = path.absolute().parent
        if path.is_dir():
            raise InputError(f"--{name} {path} is a folder: give the name of a file in it")
        if not folder.is_dir():
            raise InputError(f"--{name} {path}: there is no folder {folder}")
        if not os.access(folder, os.W_OK):
            raise InputError(f"--{name} {path}: nothing may be written to {folder}")
        if path.exists() and not path.stat().st_mode & 0o222:
            raise InputError(f"--{name} {path} is read-only: give another name")


def _joined(words: list[str]) -> list[str]:
    """Join a list of numbers that begins with a minus to its option: it is none itself."""
    joined: list[str] = []
    for word in words:
        if joined and re.match(r"--\w+$", joined[-1]) and re.match(r"-[\d.,]+\s*[,;]", word):
            joined[-1] += f"={word}"
        else:
            joined.append(word)
    return joined


class Parser(argparse.ArgumentParser):
    """Says what is wrong with the words in one line, as everything else is said."""

    def error(self, message: str) -> NoReturn:
        raise InputError(message)


def _loaded(name: str) -> ModuleType:
    """Import a part of the application, and all that it needs."""
    name = f"usual_clay.{name}"
    if name not in sys.modules:
        # What is imported stays: it need not be looked through while it comes, nor later.
        gc.disable()
        importlib.import_module(name)
        gc.freeze()
        gc.enable()
        # Threads spin while they wait for each other at products as small as ours.
        threadpool_limits(1, "blas")
    return sys.modules[name]


def _parser(words: Sequence[str] = ()) -> argparse.ArgumentParser:
    """Return what reads words: of the command that they name, or of all."""
    parser = Parser(prog="usual-clay", description="Lean NURBS from pictures, points and scans.")
    parser.add_argument("--debug", action="store_true", help="log everything, and print it")
    parser.add_argument("--version", action="version", version=f"Usual Clay {__version__}")
    parser.set_defaults(command=_app, file=None)
    commands: Any = parser.add_subparsers(title="commands")
    app = commands.add_parser("app", help="open the window, empty or with a job or scan")
    app.add_argument("file", nargs="?", type=Path)
    app.set_defaults(command=_app)
    demo = commands.add_parser("demo", help="open the window with the demo job")
    demo.set_defaults(command=_demo)
    shots = commands.add_parser("shots", help="write pictures of the main views")
    shots.add_argument("folder", nargs="?", type=Path, default=Path("docs/screenshots"))
    shots.add_argument("names", nargs="*", help="which; all without any")
    shots.set_defaults(command=_shots)
    named = {word for word in words if word in COMMANDS} or set(COMMANDS)
    for name in dict.fromkeys(COMMANDS[each] for each in COMMANDS if each in named):
        if name:
            _loaded(f"cli.{name}").add_command(commands)
    return parser


def _has_display() -> bool:
    platform = os.environ.get("QT_QPA_PLATFORM", "")
    return bool(platform or os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY"))


def _app(options: argparse.Namespace) -> int:
    if not _has_display():
        print(
            "usual-clay: there is no display to open a window on. Set DISPLAY, or write pictures"
            " of the main views with: ./run shots DIR",
            file=sys.stderr,
        )
        return BAD_INPUT
    run_window = _loaded("bench.start").run_window
    # The window sees to garbage itself.
    gc.disable()
    return int(run_window(options.file))


def _demo(options: argparse.Namespace) -> int:
    if _has_display():
        made = _loaded("demo.make")
        if not made.demo_folder().exists():
            print("Making the demo job, once ...", file=sys.stderr)
        options.file = made.demo_job_file()
    return _app(options)


def _shots(options: argparse.Namespace) -> int:
    _loaded("bench.shots").write_shots(options.folder, options.names)
    return MET
