"""Mending a scan: each mend returns a new mesh and says what it changed."""

from __future__ import annotations

import numpy as np

from usual_clay.core.arrays import Ints
from usual_clay.core.scan.health import duplicated, flipped, holes, pieces, spikes
from usual_clay.core.scan.mesh import TriangleMesh

KINDS = ("islands", "spikes", "holes", "normals", "duplicates")


class MendError(ValueError):
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
        if kind not in KINDS or (kind == "holes") != bool(size) or not number >= 0:
            raise MendError(
                f"no mend {word!r}: use islands, spikes, holes:SIZE, normals, duplicates"
            )
        wanted.append((kind, number))
    return wanted


def mend(mesh: TriangleMesh, kind: str, size: float = 0.0) -> tuple[TriangleMesh, str]:
    """Make one mend; return the new mesh and what was changed, in words.

    Parameters
    ----------
    kind : {"islands", "spikes", "holes", "normals", "duplicates"}
    size : float
        For holes: the greatest extent that is still filled, mm.
    """
    if kind == "islands":
        kept = pieces(mesh) == 0
        dropped = int(pieces(mesh).max())
        return _without(mesh, ~kept), f"{dropped} islands dropped"
    if kind == "spikes":
        return _level_spikes(mesh)
    if kind == "holes":
        return _fill_holes(mesh, size)
    if kind == "normals":
        wrong = flipped(mesh)
        triangles = mesh.triangles.copy()
        triangles[wrong] = triangles[wrong][:, ::-1]
        return TriangleMesh(mesh.vertices, triangles), f"{wrong.sum()} triangles turned"
    again = duplicated(mesh)
    return _without(mesh, again), f"{again.sum()} duplicated triangles dropped"


def _without(mesh: TriangleMesh, gone: np.ndarray) -> TriangleMesh:
    used, triangles = np.unique(mesh.triangles[~gone], return_inverse=True)
    return TriangleMesh(mesh.vertices[used], triangles.reshape(-1, 3))


def _level_spikes(mesh: TriangleMesh) -> tuple[TriangleMesh, str]:
    """Put spikes at the middle of those neighbours that are no spikes."""
    out = spikes(mesh)
    links = mesh.neighbours.copy()
    links.data = np.ones_like(links.data)
    calm = (~out).astype(float)
    weight = links @ calm
    movable = out & (weight > 0)
    middle = (links @ (mesh.vertices * calm[:, None])) / np.maximum(weight, 1)[:, None]
    vertices = np.where(movable[:, None], middle, mesh.vertices)
    return TriangleMesh(vertices, mesh.triangles), f"{movable.sum()} spikes levelled"


def _fill_holes(mesh: TriangleMesh, size: float) -> tuple[TriangleMesh, str]:
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
    return mended, f"{filled} holes filled"


def _is_one_ring(edges: Ints) -> bool:
    """Tell whether a border passes each of its vertices once."""
    return len(np.unique(edges[:, 0])) == len(edges) == len(np.unique(edges[:, 1]))
