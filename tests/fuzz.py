"""Feeds readers with damaged files: what is wrong is told, and nothing else is raised.

python -m tests.fuzz [READER|all] [COUNT]

Where atheris is installed, files are led by what of a reader they have reached; elsewhere they are
damaged at random.
"""

from __future__ import annotations

import io
import random
import sys
import tempfile
import zipfile
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from types import FunctionType

import numpy as np
import openpyxl
import trimesh
from PIL import Image

from usual_clay.core.errors import ClayError
from usual_clay.core.spline.basis import even_knots
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.files.exchange import read_bodies, read_curves, read_exchange
from usual_clay.files.job_file import read_job, read_sound, write_job
from usual_clay.files.mesh_file import read_scan
from usual_clay.files.picture_file import read_picture
from usual_clay.files.points_file import read_points
from usual_clay.files.step_out import write_exchange
from usual_clay.files.svg_file import write_svg
from usual_clay.files.svg_read import read_svg
from usual_clay.job.items import Curve, PointList
from usual_clay.job.job import Job

POINTS = "# probed\nx [mm];y [mm];z [mm]\n1,5;2;3\n-4;5e-1;6\n7;8;9,25\n"
# Files that led to something new, or were untold once, by their readers' names.
KEPT = Path(__file__).parent / "files" / "corpus"
# What numbers are put in place of others.
HARD = (b"0", b"-1", b"1e999", b"nan", b"99999999999", b"1E-320", b"0x7f", b"", b"1;2", b"\xff\xfe")


def line() -> BSplineCurve:
    points = np.array([[0.0, 0, 0], [3, 0, 5], [6, 0, -2], [9, 0, 0]])
    return BSplineCurve(even_knots(4, 3), points)


def job_file(path: Path) -> None:
    job = Job("Fuzzed").with_item(Curve(id="curve-1", name="Line", geometry=line()))
    write_job(path, job.with_item(PointList(id="points-2", name="All", points=line().points)))


def sheet_file(path: Path) -> None:
    book = openpyxl.Workbook()
    for row in (("x [mm]", "y [mm]", "z [mm]"), (1.5, 2, 3), (-4, 0.5, 6), (7, 8, 9.25)):
        book.active.append(row)
    book.save(path)


def mesh_file(path: Path) -> None:
    trimesh.creation.icosahedron().export(path)


def picture_file(path: Path) -> None:
    pixels = np.random.default_rng(0).integers(0, 255, (24, 32, 3), dtype=np.uint8)
    Image.fromarray(pixels).save(path, dpi=(96, 96))


def exchange_file(path: Path) -> None:
    knots = even_knots(4, 3)
    net = np.stack([*np.meshgrid(range(4), range(4), indexing="ij"), np.ones((4, 4))], axis=2)
    write_exchange(path, [("Line", line()), ("Plane", BSplineSurface(knots, knots, net))])


@dataclass(frozen=True)
class Reader:
    """How files of a kind are read, and how a sound one is written."""

    suffix: str
    read: Callable[[Path], object]
    write: Callable[[Path], object]

    @property
    def is_archive(self) -> bool:
        return self.suffix in (".uclay", ".xlsx")


READERS = {
    "points": Reader(".csv", read_points, lambda path: path.write_text(POINTS)),
    "sheet": Reader(".xlsx", read_points, sheet_file),
    "job": Reader(".uclay", read_job, job_file),
    "sound job": Reader(".uclay", read_sound, job_file),
    "svg": Reader(".svg", read_svg, lambda path: write_svg(path, [("Line", line())], "side")),
    "step": Reader(".step", read_exchange, exchange_file),
    "curves of step": Reader(".step", read_curves, exchange_file),
    "bodies of step": Reader(".step", read_bodies, exchange_file),
    "iges": Reader(".igs", read_exchange, exchange_file),
    **{end: Reader(f".{end}", read_scan, mesh_file) for end in ("ply", "stl", "obj", "off", "glb")},
    **{
        end: Reader(f".{end}", read_picture, picture_file)
        for end in ("png", "jpg", "tif", "webp", "pdf")
    },
}


def damaged(sound: bytes, chance: random.Random) -> bytes:
    """Return a file with one thing or a few wrong: cut off, turned, repeated, another number."""
    data = bytearray(sound)
    for _ in range(chance.choice((1, 1, 2, 5))):
        at = chance.randrange(len(data) + 1)
        way = chance.randrange(6)
        if way == 0 and data:
            data[at % len(data)] ^= 1 << chance.randrange(8)
        elif way == 1:
            del data[at : at + chance.choice((1, 4, 60))]
        elif way == 2:
            data[at:at] = data[at : at + chance.choice((1, 8, 200))]
        elif way == 3:
            data[at:at] = chance.choice(HARD)
        elif way == 4:
            del data[at:]
        else:
            end = at
            while end < len(data) and chr(data[end]) in "0123456789.+-eE":
                end += 1
            data[at:end] = chance.choice(HARD)
    return bytes(data)


def damaged_inside(sound: bytes, chance: random.Random) -> bytes:
    """Return an archive with something wrong in one of its parts, sound as an archive."""
    with zipfile.ZipFile(io.BytesIO(sound)) as archive:
        parts = {name: archive.read(name) for name in archive.namelist()}
    name = chance.choice(sorted(parts))
    parts[name] = damaged(parts[name], chance)
    if chance.random() < 0.1:
        del parts[name]
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w") as archive:
        for each, data in parts.items():
            archive.writestr(each, data)
    return made.getvalue()


def feed(reader: Reader, data: bytes, folder: Path) -> None:
    """Let a reader read a file; what it says of it is no fault.

    Raises
    ------
    Exception
        What it should not have raised.
    """
    path = folder / f"fuzzed{reader.suffix}"
    path.write_bytes(data)
    with suppress(ClayError):
        reader.read(path)


def sound_bytes(reader: Reader, folder: Path) -> bytes:
    path = folder / f"seed{reader.suffix}"
    reader.write(path)
    return path.read_bytes()


def kept(name: str) -> list[bytes]:
    """Return the files that are kept of a reader's kind."""
    return [path.read_bytes() for path in sorted((KEPT / name.replace(" ", "-")).glob("*"))]


def dose(name: str, count: int, seed: int = 0) -> int:
    """Feed a reader so many damaged files; return how many that were.

    Raises
    ------
    AssertionError
        With the number of the file that raised what it should not.
    """
    reader, chance = READERS[name], random.Random(seed)
    with tempfile.TemporaryDirectory() as told:
        folder = Path(told)
        sound = sound_bytes(reader, folder)
        for data in (sound, *kept(name)):
            feed(reader, data, folder)
        for number in range(count):
            inside = reader.is_archive and chance.random() < 0.8
            data = (damaged_inside if inside else damaged)(sound, chance)
            try:
                feed(reader, data, folder)
            except Exception as error:
                left = Path(tempfile.gettempdir()) / f"fuzzed-{name}-{number}{reader.suffix}"
                left.write_bytes(data)
                raise AssertionError(
                    f"{name}, file {number} of seed {seed}: kept as {left}"
                ) from error
    return count


def led(name: str, count: int) -> None:
    """Feed a reader with files that are led by what they reach; it ends the process."""
    import atheris

    reader = READERS[name]
    folder, found = Path(tempfile.mkdtemp()), Path(tempfile.mkdtemp())
    sound = sound_bytes(reader, folder)
    (found / "seed").write_bytes(sound)
    # Of all that is loaded, only what reads: to watch the rest takes minutes to begin with.
    for each in [m for key, m in sys.modules.items() if key.startswith("usual_clay.files")]:
        for function in vars(each).values():
            if isinstance(function, FunctionType):
                atheris.instrument_func(function)

    def changed(data: bytes, most: int, seed: int) -> bytes:
        chance = random.Random(seed)
        try:
            made = damaged_inside(data, chance)
        except (zipfile.BadZipFile, IndexError, NotImplementedError):
            made = damaged_inside(sound, chance)
        return made if len(made) <= most else sound

    for number, data in enumerate(kept(name)):
        (found / str(number)).write_bytes(data)
    atheris.Setup(
        [sys.argv[0], str(found), f"-runs={count}",
         "-max_len=100000", "-rss_limit_mb=4000", "-timeout=30"],
        lambda data: feed(reader, data, folder),
        custom_mutator=changed if reader.is_archive else None,
    )  # fmt: skip
    atheris.Fuzz()


def main() -> None:
    asked = sys.argv[1] if len(sys.argv) > 1 else "all"
    count = int(sys.argv[2]) if len(sys.argv) > 2 else 2_000
    try:
        import atheris  # noqa: F401
    except ImportError:
        pass
    else:
        if asked != "all":
            led(asked, count)
    for name in READERS if asked == "all" else [asked]:
        seed = random.randrange(10**6)
        print(f"{name}: {dose(name, count, seed)} damaged files of seed {seed}, nothing untold")


if __name__ == "__main__":
    main()
