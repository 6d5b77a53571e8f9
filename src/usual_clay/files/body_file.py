"""Closed bodies from STEP, IGES and mesh files, as triangles that share their vertices."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from usual_clay.core.arrays import Floats, Ints
from usual_clay.core.body.afloat import Body
from usual_clay.files import exchange
from usual_clay.files.apart import apart
from usual_clay.files.errors import FileError
from usual_clay.files.mesh_file import read_mesh

# A chord height without one asked for, as a share of a body's size, and the greatest turn between
# triangles, radians.
FINE, TURN = 2e-4, 0.1


def read_body(path: Path, unit: str = "mm", chord: float = 0.0) -> Body:
    """Read a closed body.

    Parameters
    ----------
    unit : str
        Of a mesh file, which says none.
    chord : float
        How far triangles of a kernel's body may lie off it, mm; 0 for a share of its size.

    Raises
    ------
    FileError, FloatError
        What is wrong with the file, or where the body is open.
    """
    if path.suffix.lower() in exchange.SUFFIXES:
        if not path.exists():
            raise FileError(f"{path.name} is not there")
        return Body.of(*apart(path.name, triangles_of, path, chord))
    mesh = read_mesh(path, unit)
    return Body.of(mesh.vertices, mesh.triangles)


def triangles_of(path: Path, chord: float) -> tuple[Floats, Ints]:
    """Return the triangles of all the faces of a STEP or IGES file, mm.

    Raises
    ------
    FileError
    """
    from OCP.BRep import BRep_Tool
    from OCP.BRepMesh import BRepMesh_IncrementalMesh
    from OCP.TopAbs import TopAbs_Orientation
    from OCP.TopLoc import TopLoc_Location
    from OCP.TopoDS import TopoDS

    with exchange.silenced():
        whole = exchange.shape_of(path)
        height = chord or FINE * _size(whole)
        BRepMesh_IncrementalMesh(whole, height, False, TURN, True)
        vertices, triangles, count = [], [], 0
        for part in exchange.inside(whole, "FACE"):
            face, place = TopoDS.Face(part), TopLoc_Location()
            mesh = BRep_Tool.Triangulation_s(face, place)
            if mesh is None:
                continue
            move = place.Transformation()
            nodes = [mesh.Node(k + 1).Transformed(move) for k in range(mesh.NbNodes())]
            corners = np.array([mesh.Triangle(k + 1).Get() for k in range(mesh.NbTriangles())])
            if face.Orientation() == TopAbs_Orientation.TopAbs_REVERSED:
                corners = corners[:, ::-1]
            vertices.append(np.array([(p.X(), p.Y(), p.Z()) for p in nodes]))
            triangles.append(corners - 1 + count)
            count += len(nodes)
    if not vertices:
        raise FileError(f"{path.name} holds no face")
    return np.concatenate(vertices), np.concatenate(triangles).astype(np.int64)


def _size(shape: object) -> float:
    from OCP.Bnd import Bnd_Box
    from OCP.BRepBndLib import BRepBndLib

    box = Bnd_Box()
    BRepBndLib.Add_s(shape, box)
    if box.IsVoid():
        raise FileError("it holds nothing that has a size")
    low, high = box.CornerMin(), box.CornerMax()
    return max(high.X() - low.X(), high.Y() - low.Y(), high.Z() - low.Z(), 1e-9)
