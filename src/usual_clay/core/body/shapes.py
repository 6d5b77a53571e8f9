"""Shapes of the kernel with names on their faces, and bodies made of them."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Any

import numpy as np
from OCP.BinTools import BinTools
from OCP.Bnd import Bnd_Box
from OCP.BRep import BRep_Builder, BRep_Tool
from OCP.BRepAdaptor import BRepAdaptor_Curve
from OCP.BRepBndLib import BRepBndLib
from OCP.BRepCheck import BRepCheck_Analyzer
from OCP.BRepClass3d import BRepClass3d_SolidClassifier
from OCP.BRepLib import BRepLib
from OCP.BRepTools import BRepTools
from OCP.collections import IndexedMap_TopoDS_Shape_TopTools_ShapeMapHasher as Shapes
from OCP.collections import List_TopoDS_Shape
from OCP.Geom2dAdaptor import Geom2dAdaptor_Curve
from OCP.GeomLProp import GeomLProp_SLProps
from OCP.gp import gp_Pnt
from OCP.GProp import GProp_GProps
from OCP.ShapeFix import ShapeFix_Shape
from OCP.TopAbs import TopAbs_Orientation, TopAbs_ShapeEnum, TopAbs_State
from OCP.TopExp import TopExp
from OCP.TopoDS import TopoDS, TopoDS_Compound, TopoDS_Shape

from usual_clay.core.arrays import Floats
from usual_clay.core.body.body_shape import BodyError, BodyShape, Place
from usual_clay.core.body.mass import forget, held_by, skin_of, volume_of
from usual_clay.core.body.meshing import triangles_of

# How near triangles that are drawn lie, as a share of a body's size.
FINE = 8e-4
ALONG = 33
# A cut that takes a smaller share of a body than this misses it.
LEAST_TAKEN = 1e-6
FACE, EDGE = TopAbs_ShapeEnum.TopAbs_FACE, TopAbs_ShapeEnum.TopAbs_EDGE
SOLID, SHELL = TopAbs_ShapeEnum.TopAbs_SOLID, TopAbs_ShapeEnum.TopAbs_SHELL
VERTEX, WIRE = TopAbs_ShapeEnum.TopAbs_VERTEX, TopAbs_ShapeEnum.TopAbs_WIRE
REVERSED = TopAbs_Orientation.TopAbs_REVERSED


class Named:
    """A shape, and what its faces are called."""

    def __init__(self, shape: TopoDS_Shape) -> None:
        self.shape = shape
        # Shapes of the kernel are equal only to themselves: its own map knows them again.
        self._known = Shapes()
        self._names: dict[int, str] = {}

    @classmethod
    def one(cls, face: TopoDS_Shape, name: str) -> Named:
        """Return a single face under its name."""
        named = cls(face)
        named.call([face], name)
        return named

    def name(self, face: Any, otherwise: str = "") -> str:
        return self._names.get(self._known.FindIndex(face), otherwise)

    def call(self, faces: Iterable[Any], name: str) -> None:
        """Give faces a name."""
        for face in faces:
            self._names[self._known.Add(face)] = name

    def after(self, builder: Any, shape: TopoDS_Shape, fresh: str = "") -> Named:
        """Return what a builder made of it: what became of a face keeps its name.

        Parameters
        ----------
        fresh : str
            What faces are called that came from none.
        """
        return joined_names(builder, shape, [self]).filled(fresh)

    def filled(self, fresh: str) -> Named:
        """Call those faces something that have no name."""
        for face in parts(self.shape, FACE):
            if not self.name(face):
                self.call([face], fresh)
        return self


def joined_names(builder: Any, shape: TopoDS_Shape, sources: Iterable[Named]) -> Named:
    """Return what a builder made of several: what became of a face keeps its name."""
    made = Named(shape)
    for source in sources:
        for face in parts(source.shape, FACE):
            own = source.name(face)
            if own:
                made.call(list(builder.Modified(face)) or [face], own)
    return made


def parts(shape: TopoDS_Shape, kind: Any) -> list[Any]:
    """Return the different faces, edges ... of a shape, always in the same order."""
    found = Shapes()
    TopExp.MapShapes_s(shape, kind, found)
    cast = {FACE: TopoDS.Face, EDGE: TopoDS.Edge, VERTEX: TopoDS.Vertex}.get(kind)
    listed = [found.FindKey(k) for k in range(1, found.Extent() + 1)]
    return [cast(each) for each in listed] if cast is not None else listed


def read(exact: tuple[bytes, Sequence[str]]) -> Named:
    """Return the shape of a body.

    Raises
    ------
    BodyError
    """
    shape = TopoDS_Shape()
    BinTools.Read_s(shape, io.BytesIO(exact[0]))
    faces = [] if shape.IsNull() else parts(shape, FACE)
    if len(faces) != len(exact[1]) or not faces:
        raise BodyError("the body's shape is damaged: make it anew")
    named = Named(shape)
    for face, name in zip(faces, exact[1], strict=True):
        named.call([face], name)
    return named


def compound(shapes: Iterable[TopoDS_Shape]) -> TopoDS_Compound:
    """Return several shapes as one."""
    builder, whole = BRep_Builder(), TopoDS_Compound()
    builder.MakeCompound(whole)
    for shape in shapes:
        builder.Add(whole, shape)
    return whole


def listed(shapes: Iterable[TopoDS_Shape]) -> Any:
    """Return shapes as a list of the kernel."""
    made = List_TopoDS_Shape()
    for shape in shapes:
        made.Append(shape)
    return made


def size_of(shape: TopoDS_Shape) -> float:
    """Return the longest side of its box, mm.

    Raises
    ------
    BodyError
        For a shape that holds nothing.
    """
    low, high = box_of(shape)
    return float(max(high - low))


def box_of(shape: TopoDS_Shape) -> tuple[Floats, Floats]:
    """Return the corners of a shape's box, mm."""
    box = Bnd_Box()
    BRepBndLib.Add_s(shape, box)
    if box.IsVoid():
        raise BodyError("it holds nothing")
    low, high = box.CornerMin(), box.CornerMax()
    return np.array([low.X(), low.Y(), low.Z()]), np.array([high.X(), high.Y(), high.Z()])


def faced_outward(solid: TopoDS_Shape) -> TopoDS_Shape:
    """Return a solid that is not inside out."""
    whole = TopoDS.Solid(solid)
    BRepLib.OrientClosedSolid_s(whole)
    return whole


def is_closed(shape: TopoDS_Shape) -> bool:
    """Tell whether a shape is made of solids, none of which has an open edge."""
    # A shell may be marked as closed that is not.
    return bool(parts(shape, SOLID)) and all(len(faces) > 1 for _, faces in faces_of_edges(shape))


def is_smaller(shape: TopoDS_Shape, whole: TopoDS_Shape) -> bool:
    """Tell whether a solid holds less than another that it was cut out of."""
    left, before = volume_of(shape), volume_of(whole)
    return before - left >= LEAST_TAKEN * before


def is_within(solid: TopoDS_Shape, place: Place) -> bool:
    """Tell whether a place lies in a solid, or on it."""
    classifier = BRepClass3d_SolidClassifier(solid, gp_Pnt(*map(float, place)), 1e-6)
    return bool(classifier.State() in (TopAbs_State.TopAbs_IN, TopAbs_State.TopAbs_ON))


# ---- bodies ------------------------------------------------------------------------------------


def exact_of(named: Named) -> tuple[bytes, tuple[str, ...]]:
    """Return a shape as it is kept, and the names of its faces."""
    stream = io.BytesIO()
    # Without triangles: they are worked out again at whatever height they are wanted.
    BRepTools.Clean_s(named.shape)
    BinTools.Write_s(named.shape, stream)
    return stream.getvalue(), tuple(named.name(face) for face in parts(named.shape, FACE))


def body_of(named: Named, chord: float = 0.0) -> BodyShape:
    """Return a shape as a body.

    Parameters
    ----------
    chord : float
        How far its triangles may lie off it, mm; 0 for a share of its size.

    Raises
    ------
    BodyError
        Where it has no face.
    """
    shape = named.shape
    faces = parts(shape, FACE)
    if not faces:
        raise BodyError("nothing is left of it")
    solids = parts(shape, SOLID)
    chord = chord or FINE * size_of(shape)
    named, valid = sound(named)
    if named.shape is not shape:
        shape = named.shape
        faces, solids = parts(shape, FACE), parts(shape, SOLID)
    area = skin_of(shape)
    volume = held_by(shape) if solids else GProp_GProps()
    held = volume if solids and volume.Mass() > 0 else area
    centre = held.CentreOfMass()
    # Nothing follows in which it is measured.
    forget()
    matrix = volume.MatrixOfInertia() if solids else None
    inertia = np.zeros((3, 3))
    if matrix is not None:
        inertia = np.array([[matrix.Value(i, j) for j in (1, 2, 3)] for i in (1, 2, 3)])
    vertices, normals, triangles, face_of = triangles_of(shape, faces, chord)
    lines, meets, turns = _edges(shape, faces, chord)
    brep, names = exact_of(named)
    return BodyShape(
        brep=brep,
        names=names,
        solids=len(solids),
        # A solid that holds less than nothing has faces that lie where they should not.
        valid=valid and (not solids or volume.Mass() > 0),
        volume=float(volume.Mass()) if solids else 0.0,
        area=float(area.Mass()),
        centre=np.array([centre.X(), centre.Y(), centre.Z()]),
        inertia=inertia,
        vertices=vertices,
        normals=normals,
        triangles=triangles,
        face_of=face_of,
        edge_points=np.concatenate(lines) if lines else np.zeros((0, 3)),
        edge_starts=np.concatenate([[0], np.cumsum([len(x) for x in lines])]).astype(np.int64),
        edge_faces=np.array(meets, dtype=np.int64).reshape(-1, 2),
        edge_turns=np.array(turns, dtype=float),
        chord=chord,
    )


def sound(named: Named) -> tuple[Named, bool]:
    """Return a shape, put right where it is not valid and can be, and whether it is valid."""
    if BRepCheck_Analyzer(named.shape).IsValid():
        return named, True
    healed = _healed(named)
    return (named, False) if healed is None else (healed, True)


def _healed(named: Named) -> Named | None:
    """Return a shape whose edges and seams the kernel has put right; None where it cannot."""
    fix = ShapeFix_Shape(named.shape)
    fix.Perform()
    whole = fix.Shape()
    if whole.IsNull() or not BRepCheck_Analyzer(whole).IsValid():
        return None
    before, after = parts(named.shape, FACE), parts(whole, FACE)
    if len(before) != len(after) or (is_closed(named.shape) and not is_closed(whole)):
        return None
    made = Named(whole)
    for old in before:
        made.call(parts(fix.Context().Apply(old), FACE), named.name(old))
    return made.filled("Face")


def faces_of_edges(shape: TopoDS_Shape) -> Iterator[tuple[Any, list[Any]]]:
    """Yield each edge that has a length with the faces that meet there; a seam has one twice."""
    # The kernel's own table of what an edge belongs to takes a millisecond for each of them here.
    number, owners = Shapes(), list[tuple[Any, list[Any]]]()
    for face in parts(shape, FACE):
        for edge in parts_as_they_run(face, EDGE):
            k = number.Add(edge)
            if k > len(owners):
                owners.append((edge, []))
            owners[k - 1][1].append(face)
    for edge, faces in owners:
        if not BRep_Tool.Degenerated_s(edge):
            yield edge, faces


def _edges(shape: TopoDS_Shape, faces: list[Any], chord: float) -> tuple[Any, Any, Any]:
    number = Shapes()
    for face in faces:
        number.Add(face)
    lines, meets, turns = [], [], []
    for edge, own in faces_of_edges(shape):
        where = sorted({number.FindIndex(face) - 1 for face in own})
        is_seam = len(own) > 1 and len(where) == 1
        lines.append(along(edge, chord))
        meets.append((where[0], where[0] if is_seam else where[1] if len(where) > 1 else -1))
        turns.append(_turn(edge, own) if len(where) == 2 else 0.0)
    return lines, meets, turns


def along(edge: Any, chord: float) -> Floats:
    """Return places along an edge, within a chord height of it, (k, 3)."""
    from OCP.GCPnts import GCPnts_QuasiUniformDeflection

    curve = BRepAdaptor_Curve(edge)
    spread = GCPnts_QuasiUniformDeflection(curve, max(chord, 1e-6))
    if spread.IsDone() and spread.NbPoints() > 1:
        found = [spread.Value(k + 1) for k in range(spread.NbPoints())]
    else:
        ends = np.linspace(curve.FirstParameter(), curve.LastParameter(), ALONG)
        found = [curve.Value(float(t)) for t in ends]
    return np.array([(p.X(), p.Y(), p.Z()) for p in found])


def evenly_along(line: Floats, count: int) -> Floats:
    """Return so many places spread evenly along the length of a line of places, (count, 3)."""
    ways = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))])
    at = np.linspace(0, ways[-1], count)
    return np.stack([np.interp(at, ways, line[:, k]) for k in range(3)], axis=1)


def normal_at(edge: Any, face: Any, t: float) -> Floats:
    """Return the outward normal of a face at a place of its edge; zero where it has none."""
    ends = BRep_Tool.CurveOnSurface_s(edge, face, 0.0, 1.0)
    if ends is None:
        return np.zeros(3)
    place = Geom2dAdaptor_Curve(ends).Value(t)
    properties = GeomLProp_SLProps(BRep_Tool.Surface_s(face), place.X(), place.Y(), 1, 1e-9)
    if not properties.IsNormalDefined():
        return np.zeros(3)
    normal = properties.Normal()
    way = np.array([normal.X(), normal.Y(), normal.Z()])
    return -way if face.Orientation() == REVERSED else way


def _turn(edge: Any, faces: list[Any]) -> float:
    """Return how far the normals of two faces turn over an edge, at most; more than 0: convex."""
    curve = BRepAdaptor_Curve(edge)
    ends = curve.FirstParameter(), curve.LastParameter()
    worst, there = -1.0, None
    for share in (0.1, 0.5, 0.9):
        t = ends[0] + share * (ends[1] - ends[0])
        first, second = (normal_at(edge, face, t) for face in faces[:2])
        angle = float(np.arctan2(np.linalg.norm(_cross(first, second)), first @ second))
        if angle >= worst:
            worst, there = angle, (t, first, second)
    assert there is not None
    return worst if _is_convex(edge, faces[0], curve, *there) else -worst


def _cross(a: Floats, b: Floats) -> Floats:
    """Return the product of two vectors: NumPy's takes twenty times as long for so few numbers."""
    (ax, ay, az), (bx, by, bz) = a.tolist(), b.tolist()
    return np.array([ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx])


def _is_convex(edge: Any, face: Any, curve: Any, t: float, first: Floats, second: Floats) -> bool:
    """Tell whether a body's edge sticks out: the second face then bends away below the first."""
    way = curve.DN(t, 1)
    ahead = np.array([way.X(), way.Y(), way.Z()])
    # The same edge is there in its face as that runs round it.
    for own in parts_as_they_run(face, EDGE):
        if own.IsSame(edge):
            turned = own.Orientation() == REVERSED
            if face.Orientation() == REVERSED:
                turned = not turned
            ahead = -ahead if turned else ahead
            break
    inward = _cross(first, ahead)
    return bool(second @ inward < 0)


def parts_as_they_run(shape: TopoDS_Shape, kind: Any) -> Iterator[Any]:
    """Yield edges ... as they are there, each as often and turned as it is."""
    from OCP.TopExp import TopExp_Explorer

    cast: Callable[[Any], Any] = TopoDS.Edge if kind == EDGE else lambda each: each
    explorer = TopExp_Explorer(shape.Oriented(TopAbs_Orientation.TopAbs_FORWARD), kind)
    while explorer.More():
        yield cast(explorer.Current())
        explorer.Next()
