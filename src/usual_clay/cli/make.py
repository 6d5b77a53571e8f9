"""``usual-clay make``: any recipe from files, without a window."""

from __future__ import annotations

import argparse
import time
from pathlib import Path
from typing import Any

from usual_clay.cli.figures import (
    exit_code,
    figures_of,
    figures_of_made,
    in_words,
    write_report,
)
from usual_clay.cli.settings import InputError, decimal, described, settings_from
from usual_clay.core.check.deviation import Tolerance
from usual_clay.files.deliver import ready_to_write, write_item
from usual_clay.files.picture_file import decode
from usual_clay.files.sources import take_for
from usual_clay.files.units import MILLIMETRES
from usual_clay.job.edits import make
from usual_clay.job.from_curves import within
from usual_clay.job.items import Followed
from usual_clay.job.job import Job
from usual_clay.job.kinds import item_kind
from usual_clay.job.made import Given
from usual_clay.job.recipe_kind import Kind
from usual_clay.job.recipes import KINDS, kind_of
from usual_clay.job.remake import given_for
from usual_clay.job.remake import make as made_by

HELP = "./run make KIND --help tells the roles and the settings of one."


def add_command(commands: Any) -> None:
    """Add the command to a parser: a word for each kind."""
    text = "\n".join(f"  {kind.name:<12} {kind.about}" for kind in KINDS.values())
    parser = commands.add_parser(
        "make",
        help="make a surface, a curve or points by any recipe, from files",
        description=f"Kinds:\n{text}\n\n{HELP}",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    kinds = parser.add_subparsers(title="kind", dest="kind", metavar="KIND", required=True)
    for kind in KINDS.values():
        _add_kind(kinds, kind)


def _add_kind(kinds: Any, kind: Kind) -> None:
    about = "\n".join(f"  {role.name:<12} {_role_words(role)}" for role in kind.roles)
    shown = [each for each in described(kind.settings) if each[1] != "made in the window"]
    settings = "\n".join(
        f"  {name:<14} {words} (default {default})" for name, words, default in shown
    )
    one = kinds.add_parser(
        kind.name.replace(" ", "-"),
        help=kind.about,
        description=f"{kind.about}.\n\nRoles:\n{about}\n\nSettings:\n{settings}",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    one.add_argument("roles", nargs="*", metavar="ROLE=FILE", help="files of each role; a file"
                     " may hold several items, a role be given several times")  # fmt: skip
    one.add_argument("--set", action="append", default=[], metavar="NAME=VALUE", dest="settings")
    one.add_argument(
        "--unit", choices=list(MILLIMETRES), default="mm", help="where a file says none"
    )
    one.add_argument("--out", type=Path, required=True, metavar="OUT")
    one.add_argument("--report", type=Path, metavar="OUT.json")
    one.add_argument("--tolerance", type=decimal, default=0.05, metavar="MM")
    one.add_argument("--share", type=decimal, default=0.95)
    if kind.search is not None:
        one.add_argument("--search", action="store_true", help="to tolerance: the fewest control"
                         " points within it, in place of the counts that are set")  # fmt: skip
        one.add_argument("--limit", type=int, help="most control points of a direction")
    one.set_defaults(command=run_make, kind=kind.name, search=False, limit=None)


def _role_words(role: Any) -> str:
    takes = " or ".join(item_kind(each).word for each in role.takes)
    if role.most == 1:
        return takes if role.least else f"{takes}, may be left out"
    many = f"{role.least} to {role.most}" if role.most else f"{role.least} or more"
    return f"{many}: {takes}"


def run_make(options: argparse.Namespace) -> int:
    """Do the command; return its exit code."""
    started = time.perf_counter()
    ready_to_write(options.out)
    kind = kind_of(options.kind)
    settings = settings_from(kind.settings, options.settings)
    if not any(word.startswith("within=") for word in options.settings):
        settings = within(settings, options.tolerance)
    job = Job(tolerance=Tolerance(options.tolerance, options.share))
    job, roles = _taken(job, kind, options.roles, options.unit)
    job, item, given, said, made = made_or_found(
        job, kind.name, settings, roles, options.out.stem, options.search, options.limit
    )
    figures = figures_of(job, item, given, options.report is not None) | figures_of_made(job, made)
    lost = write_item(options.out, item, job.tolerance.deviation / 5)
    figures |= {"kind": kind.name, "seconds": time.perf_counter() - started}
    write_report(options.report, figures)
    print(" ".join(filter(None, [in_words(job, item, figures, said), lost])))
    return exit_code(figures)


def _taken(job: Job, kind: Kind, words: list[str], unit: str) -> tuple[Job, dict[str, list[str]]]:
    """Read the files of each role into a job."""
    roles: dict[str, list[str]] = {}
    for word in words:
        name, equals, path = word.partition("=")
        if not equals or not path:
            raise InputError(f"sources are given as ROLE=FILE, not {word!r}")
        role = kind.role(name)
        job, ids = take_for(job, role.takes, Path(path), unit)
        roles.setdefault(name, []).extend(ids)
    return job, roles


def made_or_found(
    job: Job,
    kind: str,
    settings: Any,
    roles: dict[str, list[str]],
    name: str,
    searched: bool,
    limit: int | None = None,
) -> tuple[Job, Followed, Given, str, Any]:
    """Make an item by a recipe, or search for the leanest one.

    Returns
    -------
    job : Job
    item : Followed
    given : Given
        What it was made of, with what was worked out from that on the way.
    words : str
        What to say of it.
    made : object
        What the recipe gave.
    """
    keyed: dict[str, Any] = roles
    item = make.planned(job, kind, settings, name, **keyed)
    assert item.recipe is not None
    given = given_for(job, item.recipe, decode)
    if not searched:
        made = made_by(item.recipe, given)
        job, item = make.with_result(job, item, made)
        return job, item, given, "", made
    outcome = make.search(item, given, job.tolerance, limit)
    job = make.with_outcome(job.with_item(item), item, outcome)
    return job, job.the(item.id, Followed), given, outcome.words, outcome.made
