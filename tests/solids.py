"""Blocks and flat faces that tests of bodies begin with."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from trimesh.creation import uv_sphere

from usual_clay.core.arrays import Floats
from usual_clay.core.body.body_shape import BodyMade, BodyShape
from usual_clay.core.body.operate import operate
from usual_clay.core.body.settings import JoinSettings
from usual_clay.core.scan.mesh import TriangleMesh, unit
from usual_clay.core.spline.basis import even_knots
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.surface import BSplineSurface

LONG, WIDE, TALL = 10.0, 20.0, 30.0
FOUR = even_knots(2, 1)


def flat(a: Any, b: Any, c: Any, d: Any) -> BSplineSurface:
    """Return the flat face of four corners."""
    return BSplineSurface(FOUR, FOUR, np.array([[a, d], [b, c]], dtype=float))


def box_faces(lift: float = 0.0, sides: Iterable[int] = range(6)) -> list[tuple[str, Any]]:
    """Return the faces of a block, with its lid lifted by so much."""

    def at(x: int, y: int, z: int) -> tuple[float, float, float]:
        return x * LONG, y * WIDE, z * TALL

    faces = [
        flat(at(0, 0, 0), at(0, 1, 0), at(1, 1, 0), at(1, 0, 0)),
        flat(at(0, 0, 1), at(1, 0, 1), at(1, 1, 1), at(0, 1, 1)),
        flat(at(0, 0, 0), at(1, 0, 0), at(1, 0, 1), at(0, 0, 1)),
        flat(at(0, 1, 0), at(1, 1, 0), at(1, 1, 1), at(0, 1, 1)),
        flat(at(0, 0, 0), at(0, 1, 0), at(0, 1, 1), at(0, 0, 1)),
        flat(at(1, 0, 0), at(1, 1, 0), at(1, 1, 1), at(1, 0, 1)),
    ]
    faces[1] = replace(faces[1], points=faces[1].points + np.array([0, 0, lift]))
    names = ("floor", "lid", "front", "back", "left", "right")
    return [(names[k], faces[k]) for k in sides]


def made(kind: str, settings: Any, **roles: Any) -> BodyMade:
    """Make a body here, from named sources by role."""
    named = {role: each if isinstance(each, list) else [each] for role, each in roles.items()}
    return operate(kind, settings, named)


def block() -> tuple[str, BodyShape]:
    """Return a block of 10 x 20 x 30 mm, with its name."""
    return "Block", made("join", JoinSettings(), faces=box_faces()).shape


def line(*places: Any) -> BSplineCurve:
    """Return straight lines through places."""
    return BSplineCurve(even_knots(len(places), 1), np.array(places, dtype=float))


def square(z: float = 0.0) -> list[tuple[str, BSplineCurve]]:
    """Return the sides of a square of 6 mm, the last of which runs the other way."""
    a, b, c, d = (2, 2, z), (8, 2, z), (8, 8, z), (2, 8, z)
    return [("a", line(a, b)), ("b", line(b, c)), ("c", line(c, d)), ("d", line(a, d))]


# What stands in a STEP file of one solid before its faces.
BEFORE = """ISO-10303-21;
HEADER;
FILE_DESCRIPTION((''),'2;1');
FILE_NAME('','',(''),(''),'','','');
FILE_SCHEMA(('AUTOMOTIVE_DESIGN'));
ENDSEC;
DATA;
#1=APPLICATION_CONTEXT('');
#2=PRODUCT_CONTEXT('',#1,'');
#3=PRODUCT('facets','facets','',(#2));
#4=PRODUCT_DEFINITION_FORMATION('','',#3);
#5=PRODUCT_DEFINITION_CONTEXT('',#1,'');
#6=PRODUCT_DEFINITION('','',#4,#5);
#7=PRODUCT_DEFINITION_SHAPE('','',#6);
#8=(LENGTH_UNIT()NAMED_UNIT(*)SI_UNIT(.MILLI.,.METRE.));
#9=(NAMED_UNIT(*)PLANE_ANGLE_UNIT()SI_UNIT($,.RADIAN.));
#10=(GEOMETRIC_REPRESENTATION_CONTEXT(3)GLOBAL_UNIT_ASSIGNED_CONTEXT((#8,#9))\
REPRESENTATION_CONTEXT('',''));
#11=SHAPE_DEFINITION_REPRESENTATION(#7,#12);
#12=ADVANCED_BREP_SHAPE_REPRESENTATION('',(#13),#10);
#13=MANIFOLD_SOLID_BREP('',#14);
"""


def write_facets(path: Path, count: int = 51) -> TriangleMesh:
    """Write a ball of flat triangles, some 2 count squared, as a STEP file of one solid with as
    many faces; return it as a mesh."""
    ball = uv_sphere(radius=10.0, count=[count, count])
    mesh = TriangleMesh(ball.vertices, ball.faces)
    lines: list[str] = []

    def put(kind: str, *parts: str) -> str:
        lines.append(f"#{15 + len(lines)}={kind}('',{','.join(parts)});\n")
        return f"#{14 + len(lines)}"

    def numbers(kind: str, xyz: Floats) -> str:
        return put(kind, f"({','.join(f'{x:.9f}' for x in xyz.tolist())})")

    places = [numbers("CARTESIAN_POINT", each) for each in mesh.vertices]
    corners = [put("VERTEX_POINT", place) for place in places]
    sides = np.sort(mesh.triangles[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1)
    pairs, which = np.unique(sides, axis=0, return_inverse=True)
    edges = []
    for a, b in pairs.tolist():
        along = put("VECTOR", numbers("DIRECTION", mesh.vertices[b] - mesh.vertices[a]), "1.")
        line = put("LINE", places[a], along)
        edges.append(put("EDGE_CURVE", corners[a], corners[b], line, ".T."))
    faces = []
    normals = unit(mesh.face_vectors)
    for (a, b, c), own, up in zip(mesh.triangles, which.reshape(-1, 3), normals, strict=True):
        ahead = ((a, b), (b, c), (c, a))
        loop = [
            put("ORIENTED_EDGE", "*", "*", edges[edge], ".T." if start < end else ".F.")
            for (start, end), edge in zip(ahead, own, strict=True)
        ]
        along = numbers("DIRECTION", mesh.vertices[b] - mesh.vertices[a])
        frame = put("AXIS2_PLACEMENT_3D", places[a], numbers("DIRECTION", up), along)
        bound = put("FACE_OUTER_BOUND", put("EDGE_LOOP", f"({','.join(loop)})"), ".T.")
        faces.append(put("ADVANCED_FACE", f"({bound})", put("PLANE", frame), ".T."))
    shell = f"#14=CLOSED_SHELL('',({','.join(faces)}));\n"
    path.write_text(f"{BEFORE}{''.join(lines)}{shell}ENDSEC;\nEND-ISO-10303-21;\n")
    return mesh
