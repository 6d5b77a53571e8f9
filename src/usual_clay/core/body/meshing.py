"""Triangles of the kernel's shapes, as near to them as is asked for."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from OCP.BRep import BRep_Tool
from OCP.BRepAdaptor import BRepAdaptor_Surface
from OCP.BRepMesh import BRepMesh_IncrementalMesh
from OCP.GeomAbs import GeomAbs_BSplineSurface, GeomAbs_Plane
from OCP.gp import gp_Pnt, gp_Vec
from OCP.IMeshTools import IMeshTools_Parameters
from OCP.TopAbs import TopAbs_Orientation
from OCP.TopLoc import TopLoc_Location
from OCP.TopoDS import TopoDS_Shape

from usual_clay.core.arrays import Bools, Floats, Ints
from usual_clay.core.body.body_shape import BodyError
from usual_clay.core.body.kernel import surface_from_kernel
from usual_clay.core.scan.mesh import TriangleMesh, unit
from usual_clay.core.spline.basis import HIGHEST_DEGREE
from usual_clay.core.spline.surface import surface_derivatives, surface_points

REVERSED = TopAbs_Orientation.TopAbs_REVERSED
# Normals turn by no more than this between the kernel's own triangles.
TURN = 0.2
# Within faces these may lie off so many times the chord height.
COARSE = 4.0
# A side's middle lies within this part of it, as what lies between sides is farther off.
MIDDLE = 0.8
# Sides are halved so often at the most, and not where their middle on the face lies off by more
# than this part of their length: there the face shrinks to a point.
ROUNDS, ASTRAY = 6, 0.3


class _Patch(NamedTuple):
    """A face's triangles: places, parameters, and corners counter-clockwise seen from outside."""

    points: Floats
    flat: Floats
    triangles: Ints


def triangles_of(
    shape: TopoDS_Shape, faces: list[Any], chord: float
) -> tuple[Floats, Floats, Ints, Ints]:
    """Return vertices, outward normals at them, triangles, and the face that each belongs to.

    The kernel's own mesher keeps a chord height along edges but not within faces, and takes long
    there: sides that lie farther off are halved, until none does.
    """
    wanted = IMeshTools_Parameters()
    wanted.Deflection, wanted.DeflectionInterior = chord, COARSE * chord
    wanted.Angle = wanted.AngleInterior = TURN
    wanted.InParallel = True
    BRepMesh_IncrementalMesh(shape, wanted)
    patches, owners = list[_Patch](), list[int]()
    normals = list[Floats | None]()
    for number, face in enumerate(faces):
        patch = _patch(face)
        if patch is None:
            continue
        exact = _Exact(face)
        if exact.is_plane:
            normals.append(None)
        else:
            patch = _near(exact, patch, chord)
            normals.append(_normals(exact, patch))
        patches.append(patch)
        owners.append(number)
    if not patches:
        raise BodyError("none of its faces can be drawn: it is damaged")
    points = np.concatenate([patch.points for patch in patches])
    starts = np.cumsum([0, *(len(patch.points) for patch in patches)])
    counts = [len(patch.triangles) for patch in patches]
    triangles = np.concatenate([patch.triangles for patch in patches])
    triangles += np.repeat(starts[:-1], counts)[:, None]
    # Those of planes are alike at all of their corners.
    vectors = TriangleMesh(points, triangles).face_vectors
    flat = unit(np.add.reduceat(vectors, np.cumsum([0, *counts[:-1]])))
    found = np.repeat(flat, np.diff(starts), axis=0)
    for own, start, end in zip(normals, starts[:-1], starts[1:], strict=True):
        if own is not None:
            found[start:end] = own
    return points, found, triangles, np.repeat(owners, counts)


def _patch(face: Any) -> _Patch | None:
    place = TopLoc_Location()
    mesh = BRep_Tool.Triangulation_s(face, place)
    if mesh is None:
        return None
    move = place.Transformation()
    nodes = [mesh.Node(k + 1).Transformed(move) for k in range(mesh.NbNodes())]
    corners = np.array([mesh.Triangle(k + 1).Get() for k in range(mesh.NbTriangles())]) - 1
    if face.Orientation() == REVERSED:
        corners = corners[:, ::-1]
    flat = [mesh.UVNode(k + 1) for k in range(mesh.NbNodes())]
    points = np.array([(p.X(), p.Y(), p.Z()) for p in nodes])
    return _Patch(points, np.array([(p.X(), p.Y()) for p in flat]), corners)


class _Exact:
    """A face's surface: splines are evaluated at all places at once, others by the kernel."""

    def __init__(self, face: Any) -> None:
        self._kernels, self._spline = BRepAdaptor_Surface(face), None
        if self._kernels.GetType() == GeomAbs_BSplineSurface:
            spline = self._kernels.BSpline()
            # What runs round and high degrees are not read as they are.
            round_ = spline.IsUPeriodic() or spline.IsVPeriodic()
            if not round_ and max(spline.UDegree(), spline.VDegree()) <= HIGHEST_DEGREE:
                self._spline = surface_from_kernel(spline)

    @property
    def is_plane(self) -> bool:
        return bool(self._kernels.GetType() == GeomAbs_Plane)

    def places(self, at: Floats) -> Floats:
        """Return the places at parameters, (n, 3)."""
        if self._spline is not None:
            return surface_points(self._spline, at[:, 0], at[:, 1])
        values = [self._kernels.Value(u, v) for u, v in at.tolist()]
        return np.array([(p.X(), p.Y(), p.Z()) for p in values]).reshape(-1, 3)

    def crosses(self, at: Floats) -> Floats:
        """Return the products of the derivatives along u and v at parameters, (n, 3)."""
        if self._spline is not None:
            _, along, across = surface_derivatives(self._spline, at[:, 0], at[:, 1], 1)
            return np.cross(along.T, across.T)
        place, by_u, by_v = gp_Pnt(), gp_Vec(), gp_Vec()
        found = np.empty((len(at), 3))
        for k, (u, v) in enumerate(at.tolist()):
            self._kernels.D1(u, v, place, by_u, by_v)
            normal = by_u.Crossed(by_v)
            found[k] = normal.X(), normal.Y(), normal.Z()
        return found


def _near(exact: _Exact, patch: _Patch, chord: float) -> _Patch:
    """Return a face's triangles with sides halved within it that lie farther off than the chord."""
    settled = np.zeros(0, dtype=np.int64)
    for _ in range(ROUNDS):
        points, flat, triangles = patch
        sides = np.sort(triangles[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1)
        # One whole number for each pair is far sooner sorted.
        keys, which, times = np.unique(
            (sides[:, 0] << 32) + sides[:, 1], return_inverse=True, return_counts=True
        )
        pairs = np.stack([keys >> 32, keys & 0xFFFFFFFF], axis=1)
        # Those of one triangle lie on an edge of the body, and belong to its neighbour too.
        asked = np.flatnonzero((times == 2) & ~np.isin(keys, settled))
        middles, at = _middles(exact, patch, pairs[asked])
        normals = TriangleMesh(points, triangles).vertex_normals
        up = unit(normals[pairs[asked]].sum(axis=1))
        gap = middles - points[pairs[asked]].mean(axis=1)
        length = np.linalg.norm(np.diff(points[pairs[asked]], axis=1)[:, 0], axis=1)
        off = np.abs(np.einsum("nk,nk->n", gap, up))
        split = (off > MIDDLE * chord) & (np.linalg.norm(gap, axis=1) < ASTRAY * length)
        settled = np.concatenate([settled, keys[asked[~split]]])
        if not split.any():
            break
        new = np.full(len(pairs), -1)
        new[asked[split]] = len(points) + np.arange(int(split.sum()))
        patch = _Patch(
            np.concatenate([points, middles[split]]),
            np.concatenate([flat, at[split]]),
            _halved(triangles, new[which.reshape(-1, 3)]),
        )
    return patch


def _middles(exact: _Exact, patch: _Patch, pairs: Ints) -> tuple[Floats, Floats]:
    """Return the middles of sides on the face, and their parameters.

    Where the face shrinks to a point only the parameter of the other end tells: of the ways to
    take the middle that which lies nearest to the straight one counts.
    """
    a, b = patch.flat[pairs[:, 0]], patch.flat[pairs[:, 1]]
    straight = patch.points[pairs].mean(axis=1)
    at = (a + b) / 2
    found = exact.places(at)
    length = np.linalg.norm(patch.points[pairs[:, 0]] - patch.points[pairs[:, 1]], axis=1)
    poor = np.flatnonzero(np.linalg.norm(found - straight, axis=1) > ASTRAY / 2 * length)
    for k, end in ((0, a), (0, b), (1, a), (1, b)):
        other = at[poor].copy()
        other[:, k] = end[poor, k]
        tried = exact.places(other)
        better = np.linalg.norm(tried - straight[poor], axis=1) < np.linalg.norm(
            found[poor] - straight[poor], axis=1
        )
        found[poor[better]], at[poor[better]] = tried[better], other[better]
    return found, at


def _halved(triangles: Ints, new: Ints) -> Ints:
    """Return triangles with some of their sides halved.

    Parameters
    ----------
    triangles : (n, 3) integers
    new : (n, 3) integers
        The middle of each side from a corner to the next; -1 where it stays whole.
    """
    count = (new >= 0).sum(axis=1)
    made = [triangles[count == 0]]
    for times in (1, 2, 3):
        mine, middle = triangles[count == times], new[count == times]
        # Turned so that the sides that are halved come first.
        lead = np.argmax(middle >= 0, axis=1)
        if times == 2:
            lead = (np.argmax(middle < 0, axis=1) + 1) % 3
        order = (lead[:, None] + np.arange(3)) % 3
        a, b, c = np.take_along_axis(mine, order, axis=1).T
        ab, bc, ca = np.take_along_axis(middle, order, axis=1).T
        parts = {
            1: ((a, ab, c), (ab, b, c)),
            2: ((a, ab, c), (ab, bc, c), (ab, b, bc)),
            3: ((a, ab, ca), (ab, b, bc), (ca, bc, c), (ab, bc, ca)),
        }[times]
        made += [np.stack(part, axis=1) for part in parts]
    return np.concatenate(made)


def _normals(exact: _Exact, patch: _Patch) -> Floats:
    """Return the outward normals of the exact face at the corners of its triangles."""
    found = exact.crosses(patch.flat)
    size = np.linalg.norm(found, axis=1)
    plain = TriangleMesh(patch.points, patch.triangles).vertex_normals
    # They are those of the surface; a face may be turned round on it.
    side = np.sign((found * plain).sum(axis=1).sum()) or 1.0
    # At a point that a side shrinks to there is none.
    poor: Bools = size <= 1e-9 * max(float(np.median(size)), 1e-300)
    found = side * found / np.maximum(size, 1e-300)[:, None]
    return np.where(poor[:, None], plain, found)
