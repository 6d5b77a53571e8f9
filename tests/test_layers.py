"""Arrows point down, file by file: between storeys, between rooms, and never in a circle."""

from __future__ import annotations

import ast
from pathlib import Path

import networkx
import pytest

SOURCE = Path(__file__).parents[1] / "src"
LOWER = {
    "core": {"core"},
    "job": {"core", "job"},
    "files": {"core", "job", "files"},
    "demo": {"core", "job", "files", "demo"},
}
# Storeys that nobody below may know of are free to use all; each toolkit has its homes.
TOOLKITS = {
    "PySide6": ("bench",),
    "pyqtgraph": ("bench",),
    "qtawesome": ("bench",),
    "vtkmodules": ("bench/stage",),
    "OCP": ("core/body", "files"),
    "trimesh": ("files",),
}
# The way through a fit, from its beginning to its end: a room knows only rooms before it.
FIT_ROOMS = ("solve", "parameterize", "cast", "search", "curve", "patch", "price")


def modules() -> dict[str, Path]:
    """Return every file of the program by its dotted name."""
    found = {}
    for path in sorted((SOURCE / "usual_clay").rglob("*.py")):
        parts = path.relative_to(SOURCE).with_suffix("").parts
        found[".".join(parts).removesuffix(".__init__")] = path
    return found


def imports_of(path: Path, known: dict[str, Path]) -> set[str]:
    """Return what a file imports, for types and within functions too, down to its own files."""
    found = set()
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom):
            assert node.level == 0, f"{path} imports relatively"
            assert node.module is not None
            for alias in node.names:
                inner = f"{node.module}.{alias.name}"
                found.add(inner if inner in known else node.module)
    return found


KNOWN = modules()
IMPORTS = {name: imports_of(path, KNOWN) for name, path in KNOWN.items()}


def wrong_ways(imports: dict[str, set[str]]) -> list[str]:
    """Return imports that lead upwards, or to a toolkit away from its home."""
    wrong = []
    for name, wanted in imports.items():
        inner = name.split(".")[1:]
        place = "/".join(inner)
        for other in wanted:
            parts = other.split(".")
            homes = TOOLKITS.get(parts[0])
            if homes is not None and not place.startswith(homes):
                wrong.append(f"{name} imports {other}")
            if parts[0] != "usual_clay" or len(parts) < 2 or not inner:
                continue
            allowed = LOWER.get(inner[0])
            if allowed is not None and parts[1] not in {*allowed, "log"}:
                wrong.append(f"{name} imports {other}")
            fit = inner[:2] == parts[1:3] == ["core", "fit"] and min(len(inner), len(parts) - 1) > 2
            if fit and FIT_ROOMS.index(parts[3]) > FIT_ROOMS.index(inner[2]):
                wrong.append(f"{name} imports {other}")
    return wrong


def circles(imports: dict[str, set[str]], depth: int = 99) -> list[list[str]]:
    """Return the circles of files; with a depth those of the rooms so deep."""
    graph = networkx.DiGraph()
    for name, wanted in imports.items():
        for other in wanted & set(imports):
            one, two = (".".join(each.split(".")[:depth]) for each in (name, other))
            if one != two:
                graph.add_edge(one, two)
    return [sorted(part) for part in networkx.strongly_connected_components(graph) if len(part) > 1]


def test_imports_keep_to_the_layers() -> None:
    assert wrong_ways(IMPORTS) == []


@pytest.mark.parametrize("depth", [99, 3, 4])
def test_no_circle_of_files_or_rooms(depth: int) -> None:
    assert circles(IMPORTS, depth) == []


def test_every_file_of_every_storey_is_read() -> None:
    storeys = {name.split(".")[1] for name in KNOWN if "." in name}
    assert storeys >= {*LOWER, "bench", "cli"}
    rooms = {name.split(".")[3] for name in KNOWN if name.startswith("usual_clay.core.fit.")}
    assert rooms == set(FIT_ROOMS)
    # Each of these is a way that is there, so they are read; each fault would be seen.
    assert "usual_clay.core.fit.solve.system" in IMPORTS["usual_clay.core.fit.cast"]
    assert "usual_clay.bench.window" in IMPORTS["usual_clay.bench.start"]


@pytest.mark.parametrize(
    ("name", "other"),
    [
        ("usual_clay.core.arrays", "usual_clay.job.items"),
        ("usual_clay.job.items", "usual_clay.files.job_file"),
        ("usual_clay.files.atomic", "usual_clay.bench.session"),
        ("usual_clay.core.arrays", "PySide6.QtCore"),
        ("usual_clay.bench.shelf", "vtkmodules.vtkCommonCore"),
        ("usual_clay.core.fit.solve.system", "usual_clay.core.fit.cast"),
    ],
)
def test_a_way_up_is_seen(name: str, other: str) -> None:
    assert wrong_ways(IMPORTS | {name: IMPORTS[name] | {other}}) == [f"{name} imports {other}"]


def test_a_circle_is_seen() -> None:
    session, window = "usual_clay.bench.session", "usual_clay.bench.window"
    ((*found,),) = circles(IMPORTS | {session: IMPORTS[session] | {window}})
    assert {session, window} <= set(found)
    room = "usual_clay.core.spline.basis"
    up = IMPORTS | {room: IMPORTS[room] | {"usual_clay.core.fit.solve.system"}}
    assert circles(up, 3) != []
