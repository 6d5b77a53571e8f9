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

import numpy as np

from usual_clay.core.errors import ClayError
from usual_clay.core.spline.basis import even_knots
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.files.job_file import read_job, read_sound, write_job
from usual_clay.files.mesh_file import _loaded
from usual_clay.files.points_file import read_points
from usual_clay.files.svg_file import write_svg
from usual_clay.files.svg_read import _read_svg
from usual_clay.job.items import Curve, PointList
from usual_clay.job.job import Job

CUBE = """ply\nformat ascii 1.0\nelement vertex 4\nproperty float x\nproperty float y\n\
property float z\nelement face 4\nproperty list uchar int vertex_indices\nend_header\n\
0 0 0\n9 0 0\n0 9 0\n0 0 9\n3 0 2 1\n3 0 1 3\n3 1 2 3\n3 2 0 3\n"""
POINTS = "# probed\nx [mm];y [mm];z [mm]\n1,5;2;3\n-4;5e-1;6\n7;8;9,25\n"
# What numbers are put in place of others.
HARD = (b"0", b"-1", b"1e999", b"nan", b"99999999999", b"1E-320", b"0x7f", b"", b"1;2", b"\xff\xfe")


def line() -> BSplineCurve:
    points = np.array([[0.0, 0, 0], [3, 0, 5], [6, 0, -2], [9, 0, 0]])
    return BSplineCurve(even_knots(4, 3), points)


def job_bytes(folder: Path) -> bytes:
    job = Job("Fuzzed").with_item(Curve(id="curve-1", name="Line", geometry=line()))
    job = job.with_item(PointList(id="points-2", name="All", points=line().points))
    write_job(folder / "seed.uclay", job)
    return (folder / "seed.uclay").read_bytes()


def svg_bytes(folder: Path) -> bytes:
    write_svg(folder / "seed.svg", [("Line", line())], "side")
    return (folder / "seed.svg").read_bytes()


@dataclass(frozen=True)
class Reader:
    """How files of a kind are read, and a sound one of them.

    Attributes
    ----------
    read : callable
    seed : callable
        Gives the bytes of a sound file; it may use a folder.
    apart : bool
        Whether it runs in a process of its own, where any error becomes one line.
    """

    suffix: str
    read: Callable[[Path], object]
    seed: Callable[[Path], bytes]
    apart: bool = False


READERS = {
    "points": Reader(".csv", read_points, lambda _: POINTS.encode()),
    "job": Reader(".uclay", read_job, job_bytes),
    "sound job": Reader(".uclay", read_sound, job_bytes),
    "svg": Reader(".svg", lambda path: _read_svg(path, "side"), svg_bytes),
    "mesh": Reader(".ply", _loaded, lambda _: CUBE.encode(), apart=True),
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
    allowed: tuple[type[Exception], ...] = (Exception,) if reader.apart else (ClayError,)
    with suppress(*allowed):
        reader.read(path)


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
        sound = reader.seed(folder)
        feed(reader, sound, folder)
        for number in range(count):
            inside = reader.suffix == ".uclay" and chance.random() < 0.8
            data = (damaged_inside if inside else damaged)(sound, chance)
            try:
                feed(reader, data, folder)
            except Exception as error:
                kept = Path(tempfile.gettempdir()) / f"fuzzed-{name}-{number}{reader.suffix}"
                kept.write_bytes(data)
                raise AssertionError(
                    f"{name}, file {number} of seed {seed}: kept as {kept}"
                ) from error
    return count


def led(name: str, count: int) -> None:
    """Feed a reader with files that are led by what they reach; it ends the process."""
    import atheris

    reader = READERS[name]
    told = tempfile.mkdtemp()
    folder, corpus = Path(told), Path(told) / "corpus"
    corpus.mkdir()
    (corpus / "seed").write_bytes(reader.seed(folder))
    atheris.instrument_all()
    atheris.Setup(
        [sys.argv[0], str(corpus), f"-runs={count}", "-rss_limit_mb=4000", "-timeout=30"],
        lambda data: feed(reader, data, folder),
    )
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
