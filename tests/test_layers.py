"""Arrows point down: what may import what, read from the imports themselves."""

from __future__ import annotations

import ast
from pathlib import Path

import pytest

SOURCE = Path(__file__).parents[1] / "src" / "usual_clay"
LOWER = {"core": set(), "job": {"core"}, "files": {"core", "job"}, "demo": {"core", "job", "files"}}
TOOLKITS = {
    "PySide6": ("bench",),
    "pyqtgraph": ("bench",),
    "qtawesome": ("bench",),
    "vtkmodules": ("bench/stage",),
    "OCP": ("core/body", "files"),
    "trimesh": ("files",),
}


def imports_of(path: Path) -> set[str]:
    found = set()
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            assert node.level == 0, f"{path} imports relatively"
            found.add(node.module)
    return found


FILES = sorted(SOURCE.rglob("*.py"))


@pytest.mark.parametrize("path", FILES, ids=lambda p: str(p.relative_to(SOURCE)))
def test_imports_keep_to_the_layers(path: Path) -> None:
    place = path.relative_to(SOURCE).as_posix()
    layer = place.split("/")[0]
    for name in imports_of(path):
        parts = name.split(".")
        if parts[0] == "usual_clay" and layer in LOWER and len(parts) > 1:
            assert parts[1] in LOWER[layer] | {layer}, f"{place} imports {name}"
        homes = TOOLKITS.get(parts[0])
        if homes is not None:
            assert place.startswith(homes), f"{place} imports {name}"


def test_the_layers_are_all_there() -> None:
    assert {p.relative_to(SOURCE).parts[0] for p in FILES} >= {"core", "job", "files", "bench"}
    assert not imports_of(SOURCE / "core" / "fit" / "cast.py").isdisjoint(
        {"usual_clay.core.fit.solve.system"}
    )
