"""Mending a scan: each mend returns a new mesh and says what it changed."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from usual_clay.core.arrays import Bools, Ints
from usual_clay.core.errors import GeometryError
from usual_clay.core.scan.closest import MeshTree
from usual_clay.core.scan.health import duplicated, flipped, holes, pieces
from usual_clay.core.scan.mesh import TriangleMesh

KINDS = ("islands", "spikes", "holes", "normals", "duplicates", "thin")
SIZED = ("holes", "thin")


class MendError(GeometryError):
    """A mend that is not known or cannot be made."""


def mends_from_words(words: str) -> list[tuple[str, float]]:
    """Read a list such as "islands,spikes,holes:5" into kinds and sizes in mm."""
    wanted = []
    for word in filter(None, words.split(",")):
        kind, _, size = word.strip().partition(":")
        try:
            number = float(size) if size else 0.0
        except ValueError:
            raise MendError(f"the size in {word!r} is no number") from None
        if kind not in KINDS or (kind in SIZED) != bool(size) or not number >= 0:
            raise MendError(
                f"no mend {word!r}: use islands, spikes, holes:SIZE, normals, duplicates,"
                " thin:TRIANGLES"
            )
        wanted.append((kind, number))
    return wanted


@dataclass(frozen=True, eq=False)
class Mended:
    """A mended mesh.

    Attributes
    ----------
    mesh : TriangleMesh
    origin : (n,) integers
        For each of its vertices the old one that it comes from; -1 for a new one.
    words : str
        What was changed.
    """

    mesh: TriangleMesh
    origin: Ints
    words: str


def mend(mesh: TriangleMesh, kind: str, size: float = 0.0) -> Mended:
    """Make one mend.

    Parameters
    ----------
    kind : str
        One of `KINDS`.
    size : float
        For holes, the greatest extent that is still filled, mm; for thin, how many triangles
        to leave.
    """
    if kind == "islands":
        number = pieces(mesh)
        return _without(mesh, number > 0, f"{number.max()} islands dropped")
    if kind == "spikes":
        return _level_spikes(mesh)
    if kind == "holes":
        return _fill_holes(mesh, size)
    if kind == "thin":
        return _thinned(mesh, int(size))
    if kind == "normals":
        wrong = flipped(mesh)
        triangles = mesh.triangles.copy()
        triangles[wrong] = triangles[wrong][:, ::-1]
        same = np.arange(len(mesh.vertices))
        return Mended(
            TriangleMesh(mesh.vertices, triangles), same, f"{wrong.sum()} triangles turned"
        )
    again = duplicated(mesh)
    return _without(mesh, again, f"{again.sum()} duplicated triangles dropped")


def _without(mesh: TriangleMesh, gone: Bools, words: str) -> Mended:
    used, triangles = np.unique(mesh.triangles[~gone], return_inverse=True)
    return Mended(TriangleMesh(mesh.vertices[used], triangles.reshape(-1, 3)), used, words)


def _thinned(mesh: TriangleMesh, count: int) -> Mended:
    """Collapse edges by quadric error (Garland and Heckbert 1997) and state what that costs."""
    import fast_simplification

    if not 4 <= count < len(mesh.triangles):
        raise MendError(
            f"a scan of {len(mesh.triangles)} triangles is thinned out to fewer, not to {count}"
        )
    vertices, triangles = fast_simplification.simplify(
        np.array(mesh.vertices), mesh.triangles.astype(np.int32), target_count=count
    )
    thin = TriangleMesh(np.asarray(vertices, dtype=np.float64), triangles)
    away = MeshTree(thin.vertices, thin.triangles).nearest(mesh.vertices)[0]
    origin = cKDTree(mesh.vertices).query(thin.vertices, workers=2)[1]
    return Mended(
        thin,
        origin,
        f"{len(thin.triangles)} triangles left; the old points are at most {away.max():.3f} mm off"
        f" them, 95 % within {np.quantile(away, 0.95):.3f} mm",
    )


def _level_spikes(mesh: TriangleMesh) -> Mended:
    vertices, moved = mesh.levelled
    same = np.arange(len(vertices))
    return Mended(TriangleMesh(vertices, mesh.triangles), same, f"{moved.sum()} spikes levelled")


def _fill_holes(mesh: TriangleMesh, size: float) -> Mended:
    """Close holes with a fan round the middle of their border."""
    vertices, triangles, filled = [mesh.vertices], [mesh.triangles], 0
    count = len(mesh.vertices)
    for edges, extent in holes(mesh):
        if extent > size or not _is_one_ring(edges):
            continue
        middle = mesh.vertices[edges[:, 0]].mean(axis=0)
        # The border runs with its own triangle: the new one runs against it.
        fan = np.stack([edges[:, 1], edges[:, 0], np.full(len(edges), count)], axis=1)
        vertices.append(middle[None])
        triangles.append(fan)
        count += 1
        filled += 1
    mended = TriangleMesh(np.concatenate(vertices), np.concatenate(triangles))
    origin = np.concatenate([np.arange(len(mesh.vertices)), np.full(filled, -1)])
    return Mended(mended, origin, f"{filled} holes filled")


def _is_one_ring(edges: Ints) -> bool:
    """Tell whether a border passes each of its vertices once."""
    return len(np.unique(edges[:, 0])) == len(edges) == len(np.unique(edges[:, 1]))
