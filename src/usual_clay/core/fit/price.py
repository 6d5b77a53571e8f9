"""What the conditions of a surface cost in deviation: it is fitted without them once more."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from usual_clay.core.arrays import Floats
from usual_clay.core.fit.cast import settled, with_images
from usual_clay.core.fit.parameterize.lay import parameterize
from usual_clay.core.fit.parameterize.region import FREE_EDGES, CastSettings
from usual_clay.core.fit.patch.patch import PatchSettings, lay_out
from usual_clay.core.progress import Progress, silent, stretch
from usual_clay.core.scan.mesh import TriangleMesh
from usual_clay.core.scan.sample import Sample
from usual_clay.core.spline.closest import foot_points
from usual_clay.core.spline.curve import BSplineCurve
from usual_clay.core.spline.surface import BSplineSurface


def price(condition: str, held: Floats, free: Floats) -> str:
    """Say what a condition costs in deviation: with it, and with as many points free of it."""
    with_it, without = (float(np.quantile(np.abs(signed), 0.95)) for signed in (held, free))
    verb = "cost" if " and " in condition else "costs"
    return (
        f"{condition} {verb} {max(with_it - without, 0.0):.4f} mm: 95 % of the points lie within"
        f" {with_it:.4f} mm, within {without:.4f} mm without it"
    )


def price_of_cast(
    sample: Sample, settings: CastSettings, signed: Floats, progress: Progress = silent
) -> str:
    """Say what held edges, a symmetry and a pull cost, each by itself; empty without any.

    Parameters
    ----------
    signed : (n,) array
        The deviation of the sample's points from the surface that was fitted with them.
    """
    plain = {
        "holding edges": replace(settings, edges=FREE_EDGES),
        "symmetry": replace(settings, symmetric=""),
        "the pull": replace(settings, pull=""),
    }
    kept = {name: free for name, free in plain.items() if free != settings}
    words = []
    for number, (name, free) in enumerate(kept.items()):
        told = stretch(progress, number / len(kept), (number + 1) / len(kept))
        whole = with_images(sample, free)
        rid = settled(whole, free, parameterize(whole, free), progress=told)
        words.append(price(name, signed, rid.feet.signed[: len(sample.points)]))
    return "; ".join(words)


def price_of_patch(
    mesh: TriangleMesh,
    curves: Sequence[BSplineCurve],
    neighbours: Sequence[BSplineSurface | None],
    settings: PatchSettings,
    surface: BSplineSurface,
    progress: Progress = silent,
) -> str:
    """Say what the joints and the symmetry of a patch cost together; empty without any.

    The same patch is fitted inside its borders alone, from where the fitted one has come to.
    """
    asked = {
        "joints": set(settings.joints) != {"G0"} or bool(settings.ribbons),
        "symmetry": bool(settings.symmetric),
    }
    conditions = [name for name, there in asked.items() if there]
    if not conditions:
        return ""
    ground = lay_out(mesh, curves, neighbours, settings)
    inside, area = ground.inside, mesh.vertex_areas[ground.inside]
    half = Sample(mesh.vertices[inside], mesh.vertex_normals[inside], area=area)
    feet = foot_points(surface, half.points)
    frame = replace(ground.frame, meetings=())
    base = replace(
        ground.base,
        u=feet.u,
        v=feet.v,
        mirror=None,
        least=frame.least(settings.degree),
        held=frame.held,
    )
    least = frame.least(settings.degree).counts
    nu, nv = (max(n, m) for n, m in zip((settings.nu, settings.nv), least, strict=True))
    free = settled(half, settings.sized(nu, nv), base, progress=progress)
    return price(" and ".join(conditions), feet.signed, free.feet.signed)
