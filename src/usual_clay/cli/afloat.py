"""``usual-clay float``: how a closed body floats, lies, and rights itself."""

from __future__ import annotations

import argparse
import time
from pathlib import Path
from typing import Any

import numpy as np

from usual_clay.cli.figures import figures_afloat, write_report
from usual_clay.cli.settings import InputError, decimal
from usual_clay.core.arrays import Floats
from usual_clay.core.body.floating import WATER, Weight
from usual_clay.core.body.lying import FloatSettings, lie
from usual_clay.core.numbers import NumberError, read_number
from usual_clay.core.spline.curve import curve_points
from usual_clay.files.body_file import read_body
from usual_clay.files.sources import take_for
from usual_clay.files.units import MILLIMETRES
from usual_clay.job.items import Curve
from usual_clay.job.job import Job

MOST_ANGLES = 2000
PLACES = 200
ABOUT = """\
The body is a closed solid of a STEP or IGES file, or a closed mesh. z is up and x ahead; mm,
degrees, grams and g/cm3. It floats upright at a draft, or lies as its weight lets it: its mass is
given, or that of its material and its weights. Drafts are measured from its lowest point as it
stands upright."""


def add_command(commands: Any) -> None:
    """Add the command to a parser."""
    one = commands.add_parser(
        "float",
        help="how a closed body floats",
        description=ABOUT,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    one.add_argument("body", type=Path, help="STEP, IGES, STL, PLY or OBJ")
    how = one.add_mutually_exclusive_group()
    how.add_argument("--draft", type=decimal, metavar="MM", help="upright, so deep in the water")
    how.add_argument("--mass", type=decimal, metavar="G", help="of all of it")
    one.add_argument("--density", type=decimal, default=WATER, metavar="G/CM3", help="of the water")
    one.add_argument("--material", type=decimal, metavar="G/CM3", help="density of the body")
    one.add_argument("--weight", action="append", default=[], metavar="G@X,Y,Z",
                     help="an added weight and where; may be given several times")  # fmt: skip
    one.add_argument("--centre", metavar="X,Y,Z", help="of gravity, of the body without weights")
    one.add_argument("--angles", metavar="FROM:TO:STEP", help="righting arms at these heels")
    one.add_argument("--mark", action="append", default=[], metavar="NAME=FILE",
                     help="curves of which it is told when they go under")  # fmt: skip
    one.add_argument("--start", choices=["upright", "upside-down"], default="upright",
                     help="from where it finds how it lies")  # fmt: skip
    one.add_argument("--unit", choices=list(MILLIMETRES), default="mm", help="of a mesh")
    one.add_argument("--report", type=Path, metavar="OUT.json")
    one.set_defaults(command=run_float)


def run_float(options: argparse.Namespace) -> int:
    """Do the command; return its exit code."""
    started = time.perf_counter()
    if not options.density > 0 or (options.material is not None and not options.material > 0):
        raise InputError("a density must be more than 0 g/cm3")
    angles = None if options.angles is None else _angles(options.angles)
    weights = [_weight(words) for words in options.weight]
    marks = dict(_marked(words) for words in options.mark)
    by_weight = options.mass or options.material or weights
    if options.draft is None and not by_weight:
        raise InputError("give --draft, --mass, --material or --weight: how deep it floats")
    settings = FloatSettings(
        by="weight" if options.draft is None else "draft",
        draft=options.draft or 0.0,
        material=options.material or 0.0,
        mass=options.mass or 0.0,
        water=options.density,
        weights=tuple(x for weight in weights for x in (weight.mass, *weight.at)),
        centre=() if options.centre is None else _numbers(options.centre, "--centre"),
        start=options.start,
        step=0.0,
    )
    lying = lie(read_body(options.body, options.unit), settings, marks, angles)
    figures = figures_afloat(lying) | {
        "density": options.density,
        "seconds": time.perf_counter() - started,
    }
    write_report(options.report, figures)
    print(_in_words(figures))
    return 0


def _in_words(figures: dict[str, Any]) -> str:
    words = (
        f"It floats {figures['draft']:.2f} mm deep, trim {figures['trim']:.2f} and heel"
        f" {figures['heel']:.2f} degrees, and displaces {figures['volume'] / 1000:.3f} cm3:"
        f" GM {figures['gm']:.2f} mm."
    )
    if "righting" in figures:
        best = figures["greatest_gz"]
        words += (
            f" Its greatest righting arm is {best['gz']:.2f} mm, at {best['angle']:.0f} degrees"
        )
        end = figures["vanishes"]
        words += "." if end is None else f"; past {end:.0f} degrees it turns over."
    return words


def _angles(words: str) -> Floats:
    parts = words.split(":")
    if len(parts) != 3:
        raise InputError(f"--angles is FROM:TO:STEP in degrees, not {words!r}")
    first, last, step = (_number(part, "--angles") for part in parts)
    if not step > 0 or last < first or (last - first) / step > MOST_ANGLES:
        raise InputError(f"--angles {words}: they rise by a step of more than 0, to {MOST_ANGLES}")
    return np.radians(np.arange(first, last + 1e-9 * step, step))


def _weight(words: str) -> Weight:
    mass, at, place = words.partition("@")
    if not at:
        raise InputError(f"--weight is G@X,Y,Z, not {words!r}")
    x, y, z = _numbers(place, "--weight")
    return Weight(_number(mass, "--weight"), (x, y, z))


def _numbers(words: str, option: str) -> tuple[float, float, float]:
    parts = words.split(",")
    if len(parts) != 3:
        raise InputError(f"{option} takes three numbers, X,Y,Z, not {words!r}")
    x, y, z = (_number(part, option) for part in parts)
    return x, y, z


def _number(words: str, option: str) -> float:
    try:
        return read_number(words, "")
    except NumberError as error:
        raise InputError(f"{option}: {error}") from None


def _marked(words: str) -> tuple[str, Floats]:
    name, equals, path = words.partition("=")
    if not equals or not path:
        raise InputError(f"--mark is NAME=FILE, not {words!r}")
    job, ids = take_for(Job(), (Curve,), Path(path), "mm")
    curves = [job.the(each, Curve).geometry for each in ids]
    return name, np.concatenate(
        [curve_points(curve, np.linspace(*curve.domain, PLACES)) for curve in curves]
    )
