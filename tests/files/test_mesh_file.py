"""Scans from files: every format, every unit, and everything that can be wrong with one."""

from __future__ import annotations

import struct
from pathlib import Path

import numpy as np
import pytest
import trimesh

from tests.shapes import sphere
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.files.errors import FileError
from usual_clay.files.mesh_file import _parsed, guess_unit, read_mesh, read_scan, write_mesh
from usual_clay.files.plain_mesh import read_plain

TETRA = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1.0]])
FACES = np.array([[0, 2, 1], [0, 1, 3], [0, 3, 2], [1, 2, 3]])


@pytest.mark.parametrize("name", ["a.stl", "a.ply", "a.obj", "ascii.stl", "ascii.ply"])
def test_every_format_comes_back_welded(tmp_path: Path, name: str) -> None:
    ball = sphere(12.5)
    made = trimesh.Trimesh(ball.vertices, ball.triangles, process=False)
    path = tmp_path / name
    if name == "ascii.stl":
        path.write_text(made.export(file_type="stl_ascii"))
    elif name == "ascii.ply":
        path.write_bytes(made.export(file_type="ply", encoding="ascii"))
    else:
        made.export(path)
    mesh = read_mesh(path)
    assert len(mesh.vertices) == len(ball.vertices)
    assert len(mesh.triangles) == len(ball.triangles)
    assert np.linalg.norm(mesh.vertices, axis=1) == pytest.approx(12.5, rel=1e-5)
    assert np.einsum("nk,nk->n", mesh.vertex_normals, mesh.vertices).min() > 0


def test_units_become_millimetres(tmp_path: Path) -> None:
    write_mesh(tmp_path / "a.stl", TETRA, FACES)
    for unit, factor in (("mm", 1), ("cm", 10), ("m", 1000), ("in", 25.4), ("ft", 304.8)):
        assert read_mesh(tmp_path / "a.stl", unit).box[1].max() == pytest.approx(factor)
    with pytest.raises(FileError, match="unknown unit 'ell'"):
        read_mesh(tmp_path / "a.stl", "ell")


def test_written_and_read_back(tmp_path: Path, lure: TriangleMesh) -> None:
    write_mesh(tmp_path / "a.ply", lure.vertices, lure.triangles)
    back = read_mesh(tmp_path / "a.ply")
    assert (tmp_path / "a.ply").stat().st_size < 4 << 20
    assert len(back.triangles) == len(lure.triangles)
    assert np.abs(back.box - lure.box).max() < 1e-4


def ply(vertices: str, faces: str, counts: tuple[int, int]) -> str:
    return (
        f"ply\nformat ascii 1.0\nelement vertex {counts[0]}\nproperty float x\nproperty float y\n"
        f"property float z\nelement face {counts[1]}\nproperty list uchar int vertex_indices\n"
        f"end_header\n{vertices}{faces}"
    )


GOOD = "0 0 0\n1 0 0\n0 1 0\n"


@pytest.mark.parametrize(
    ("name", "content", "words"),
    [
        ("empty.ply", "", "is empty"),
        ("empty.stl", "", "is empty"),
        ("words.stl", "this is a letter, not a mesh\n" * 40, "readable STL|no triangles|past"),
        ("words.ply", "this is a letter, not a mesh\n", "readable PLY"),
        ("words.obj", "this is a letter, not a mesh\n", "OBJ|no triangles"),
        ("nan.ply", ply("0 0 0\nnan 0 0\n0 1 0\n", "3 0 1 2\n", (3, 1)), "no finite numbers"),
        ("inf.ply", ply("0 0 0\ninf 0 0\n0 1 0\n", "3 0 1 2\n", (3, 1)), "no finite numbers"),
        ("past.ply", ply(GOOD, "3 0 1 9\n", (3, 1)), "point past the 3 vertices"),
        ("past.obj", "v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 9\n", "past|readable OBJ"),
        ("cloud.ply", ply(GOOD, "", (3, 0)), "no triangles"),
        ("flat.ply", ply("0 0 0\n1 0 0\n2 0 0\n", "3 0 1 2\n", (3, 1)), "no area"),
        ("cut.ply", ply(GOOD, "", (3, 1)), "cut"),
        ("scan.docx", "x", "scans are read from"),
    ],
)
def test_bad_files_are_refused_by_name(tmp_path: Path, name: str, content: str, words: str) -> None:
    path = tmp_path / name
    path.write_text(content)
    with pytest.raises(FileError, match=words) as told:
        read_mesh(path)
    assert name in str(told.value)


def test_a_missing_file_is_told(tmp_path: Path) -> None:
    with pytest.raises(FileError, match=r"none\.stl cannot be opened"):
        read_mesh(tmp_path / "none.stl")


def test_a_file_that_claims_to_be_huge_is_refused(tmp_path: Path) -> None:
    path = tmp_path / "huge.stl"
    path.write_bytes(b" " * 80 + struct.pack("<I", 2**32 - 1) + b"\0" * 500)
    with pytest.raises(FileError):
        read_mesh(path)
    cut = tmp_path / "cut.stl"
    write_mesh(cut, TETRA, FACES)
    cut.write_bytes(cut.read_bytes()[:-30])
    with pytest.raises(FileError):
        read_mesh(cut)


def test_one_triangle_is_a_mesh_but_no_region_to_cast(tmp_path: Path) -> None:
    path = tmp_path / "one.ply"
    path.write_text(ply(GOOD, "3 0 1 2\n", (3, 1)))
    assert len(read_mesh(path).triangles) == 1


def test_colours_and_clouds_come_along(tmp_path: Path) -> None:
    ball = sphere(10)
    seen = np.column_stack([(ball.vertices * 12 + 128), np.full(len(ball.vertices), 255)])
    made = trimesh.Trimesh(
        ball.vertices, ball.triangles, process=False, vertex_colors=seen.astype(np.uint8)
    )
    made.export(tmp_path / "a.ply")
    read = read_scan(tmp_path / "a.ply")
    assert read.mesh is not None
    assert read.colours is not None
    # Each colour has stayed with its vertex through the merging.
    assert np.abs(read.colours - (read.mesh.vertices * 12 + 128)).max() < 1.5
    plain = trimesh.Trimesh(ball.vertices, ball.triangles, process=False)
    for name in ("a.off", "a.stl"):
        plain.export(tmp_path / name)
        other = read_scan(tmp_path / name)
        assert other.mesh is not None
        assert other.colours is None
        assert len(other.mesh.triangles) == len(ball.triangles)
    trimesh.Scene([plain]).export(tmp_path / "a.glb")
    assert read_scan(tmp_path / "a.glb").mesh is not None
    trimesh.PointCloud(ball.vertices).export(tmp_path / "cloud.ply")
    cloud = read_scan(tmp_path / "cloud.ply")
    assert cloud.mesh is None
    assert cloud.places == pytest.approx(ball.vertices, abs=1e-5)
    (tmp_path / "odd.ply").write_text(ply("0 0 0\nnan 0 0\n0 1 0\n", "", (3, 0)))
    with pytest.raises(FileError, match="the first is point 2"):
        read_scan(tmp_path / "odd.ply")


def rich_ply(order: str) -> bytes:
    """Return a PLY with more to each point and face than is asked for."""
    random = np.random.default_rng(5)
    point = [(name, order + "f8") for name in "xyz"] + [("nx", order + "f4"), ("red", "u1")]
    points = np.zeros(6, [*point, ("green", "u1"), ("blue", "u1"), ("alpha", "u1")])
    for axis in "xyz":
        points[axis] = random.normal(0, 10, 6)
    for name in ("red", "green", "blue", "alpha"):
        points[name] = random.integers(1, 255, 6)
    faces = np.zeros(4, [("n", "u1"), ("at", order + "i4", 3), ("flags", order + "i2")])
    faces["n"], faces["at"] = 3, random.integers(0, 6, (4, 3))
    called = "little" if order == "<" else "big"
    lines = ["ply", f"format binary_{called}_endian 1.0", "comment from a scanner"]
    lines += ["element vertex 6", *(f"property double {axis}" for axis in "xyz")]
    lines += ["property float nx", *(f"property uchar {c}" for c in ("red", "green", "blue"))]
    lines += ["property uchar alpha", "element face 4"]
    lines += ["property list uchar int vertex_indices", "property short flags", "end_header\n"]
    return "\n".join(lines).encode() + points.tobytes() + faces.tobytes()


def test_what_is_read_straight_from_its_bytes_is_what_the_library_reads(tmp_path: Path) -> None:
    ball = sphere(12.5)
    write_mesh(tmp_path / "a.stl", ball.vertices, ball.triangles)
    write_mesh(tmp_path / "a.ply", ball.vertices, ball.triangles)
    (tmp_path / "little.ply").write_bytes(rich_ply("<"))
    (tmp_path / "big.ply").write_bytes(rich_ply(">"))
    (tmp_path / "cloud.ply").write_bytes(
        trimesh.PointCloud(ball.vertices[:9], colors=np.full((9, 4), 70, np.uint8)).export(
            file_type="ply"
        )
    )
    for path in sorted(tmp_path.iterdir()):
        assert same_as_the_library(path), path.name


def same_as_the_library(path: Path) -> bool:
    """Tell whether a file was read straight away; if so it must be what the library reads."""
    plain = read_plain(path)
    if plain is None:
        return False
    for mine, theirs in zip(plain, _parsed(path), strict=True):
        np.testing.assert_array_equal(mine, theirs)
    return True


def test_a_damaged_file_is_never_read_as_another(tmp_path: Path) -> None:
    random = np.random.default_rng(2)
    whole, path = rich_ply("<"), tmp_path / "damaged.ply"
    start = whole.index(b"end_header") + 11
    untouched = 0
    for _ in range(300):
        data = bytearray(whole)
        # In the header, where a byte changes what all the others mean; now and then cut off.
        for _ in range(random.integers(1, 3)):
            data[random.integers(0, start)] = random.choice(list(b"0123456789 \nabcefilnoprtuxyz"))
        path.write_bytes(data[: None if random.random() < 0.8 else random.integers(0, len(data))])
        untouched += same_as_the_library(path)
    assert 0 < untouched < 200
    longer = whole.replace(b"element vertex 6", b"element vertex " + b"9" * 5000)
    path.write_bytes(longer)
    assert read_plain(path) is None


def test_units_are_guessed_with_a_reason() -> None:
    box = np.array([[0.0, 0, 0], [1, 0.4, 0.3]])
    for size, name, unit, words in (
        (96.0, "a.stl", "mm", "likely length"),
        (0.096, "a.stl", "m", "96 mm in metres"),
        (3.8, "a.ply", "cm", "tiny"),
        (0.1, "a.glb", "m", "by its standard"),
    ):
        guess, reason = guess_unit(Path(name), size * box)
        assert guess == unit
        assert words in reason
