"""Recipes of surfaces from curves: what takes each role, and what is made of it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from operator import is_
from typing import Any

import numpy as np

from usual_clay.core.arrays import Bools, Floats, Ints
from usual_clay.core.build.blend import BlendSettings, blend
from usual_clay.core.build.combine import TwinSettings
from usual_clay.core.build.fill import FlatSettings, flat_face
from usual_clay.core.build.guide import Guide, Spend
from usual_clay.core.build.lean import Built, carried_along, lean_surface
from usual_clay.core.build.near import near
from usual_clay.core.build.sections import SAMPLES, BuildError
from usual_clay.core.build.straight import ExtrudeSettings, RuledSettings, extrude, ruled
from usual_clay.core.build.surface_edits import mirror_image
from usual_clay.core.check.edges import edge_joint
from usual_clay.core.progress import Progress, stretch
from usual_clay.core.scan.sample import Sample
from usual_clay.core.spline.boundary import border_curve
from usual_clay.core.spline.closest import FootPoints, foot_points
from usual_clay.core.spline.surface import (
    BSplineSurface,
    runs_round,
    surface_points,
)
from usual_clay.job.made import Given, SurfaceMade
from usual_clay.job.makers import mirror_plane

# A border no farther from a surface beside it than this lies on it, mm.
JOINED = 0.5
# So often a surface near a scan is asked for nearer, until so much of that lies within.
TRIES, MOSTLY = 3, 0.95
# Gives the guide of settings and sources.
Lay = Callable[[Any, Given], Guide]


def lean(lay: Lay) -> Callable[[Any, Given, Progress, object], SurfaceMade]:
    """Return the maker of the leanest surface along a guide."""

    def make(settings: Spend, given: Given, progress: Progress, _: object) -> SurfaceMade:
        return _lean(lay(settings, given), settings, given, progress)

    return make


def live(lay: Lay) -> Callable[[Any, Given, Given, BSplineSurface], BSplineSurface]:
    """Return what lets a surface follow its sources while a hand drags one.

    It is moved by as much as its guide is, with twice as many spans to follow it.
    """

    # Through a drag it sets out from the same sources: the last guide, with what it is of.
    last: list[tuple[Any, tuple[Any, ...], Guide]] = []

    def begun(settings: Any, before: Given) -> Guide:
        sources = tuple(before)
        for old, had, guide in last:
            if old == settings and len(had) == len(sources) and all(map(is_, had, sources)):
                return guide
        last[:] = [(settings, sources, lay(settings, before))]
        return last[0][2]

    def follow(settings: Any, before: Given, now: Given, surface: BSplineSurface) -> BSplineSurface:
        return carried_along(surface, begun(settings, before), lay(settings, now))

    return follow


def _lean(guide: Guide, settings: Spend, given: Given, progress: Progress) -> SurfaceMade:
    sample = given.maybe("near")
    if sample is None:
        return _made(guide, lean_surface(guide, settings, progress), given)
    guide = near(guide, sample, settings.scan)
    by_hand = settings.nu or settings.nv or settings.scan < 1
    aim: float = settings.within
    best: tuple[float, Built, Floats, Ints | None] | None = None
    for number in range(1 if by_hand else TRIES):
        part = stretch(progress, number / TRIES, (number + 1) / TRIES)
        built = lean_surface(guide, replace(settings, within=aim), part)
        signed, inside = _measured(built.surface, sample)
        off = float(np.quantile(np.abs(signed), MOSTLY))
        if best is None or off < best[0]:
            best = off, built, signed, inside
        if off <= settings.within:
            break
        # The guide is evened of noise: what is measured lies a little farther off than it.
        aim *= max(0.95 * settings.within / off, 0.5)
    assert best is not None
    _, built, signed, inside = best
    return replace(_made(guide, built, given), signed=signed, inside=inside)


def _made(guide: Guide, built: Built, given: Given) -> SurfaceMade:
    runs = {name: line.points for name, line in zip(guide.names, guide.lines, strict=False)}
    joints = _joints(guide, built.surface, given)
    words = built.words
    if joints:
        angle = np.degrees(max(angle for _, _, angle, _ in joints))
        meets = f"it meets what lies beside at {angle:.3f}° at most"
        words = "; ".join(filter(None, [words, meets]))
    return SurfaceMade(built.surface, words, built.distances, built.gaps, runs, joints)


def _measured(surface: BSplineSurface, sample: Sample) -> tuple[Floats, Ints | None]:
    """Return how far what is measured within a surface lies off, and which that is of a mesh.

    Raises
    ------
    BuildError
        Where nothing was measured within it.
    """
    feet = foot_points(surface, sample.points)
    if sample.triangles is None:
        # Loose points are all meant.
        return feet.signed, None
    inside = np.flatnonzero(_within(surface, feet))
    if not len(inside):
        raise BuildError("no measured point lies within the surface: choose another region")
    return feet.signed[inside], inside


def _joints(
    guide: Guide, surface: BSplineSurface, given: Given
) -> tuple[tuple[str, float, float, float], ...]:
    """Measure the joints with what lies beside, corners apart."""
    made = []
    for border in guide.smooth:
        line = border_curve(surface, border)
        for number, other in enumerate(given.all("beside"), 1):
            joint = edge_joint(surface, other, line)
            inner = slice(len(joint.gap) // 8, -(len(joint.gap) // 8))
            if joint.gap[inner].max() < JOINED:
                parts = (float(x[inner].max()) for x in (joint.gap, joint.angle, joint.step))
                made.append((f"{border} and beside {number}", *parts))
    return tuple(made)  # type: ignore[arg-type]


def _within(surface: BSplineSurface, feet: FootPoints) -> Bools:
    """Tell which points have their foot inside a surface, not on an edge that they lie beyond."""
    round_u, round_v = runs_round(surface, 1e-9)
    inside_u = (feet.u > 0) & (feet.u < 1) | round_u
    return np.asarray(inside_u & ((feet.v > 0) & (feet.v < 1) | round_v))


def make_flat(settings: FlatSettings, given: Given, progress: Progress, _: object) -> SurfaceMade:
    """Lay a plane face inside curves."""
    made = flat_face(given.all("edges"), settings)
    if isinstance(made, BSplineSurface):
        return SurfaceMade(made)
    return _lean(made, settings, given, progress)


def make_blend(settings: BlendSettings, given: Given, *_: object) -> SurfaceMade:
    """Blend two surfaces."""
    return SurfaceMade(blend(given.one("first"), given.one("second"), settings))


def make_extrude(settings: ExtrudeSettings, given: Given, *_: object) -> SurfaceMade:
    """Push a curve along a direction."""
    until = given.maybe("until")
    return SurfaceMade(extrude(given.one("curve"), given.maybe("direction"), settings, until))


def make_ruled(settings: RuledSettings, given: Given, *_: object) -> SurfaceMade:
    """Draw straight lines between two edges."""
    made = ruled(given.all("edges"), settings)
    t = np.linspace(0, 1, SAMPLES)
    runs = {f"edge {k + 1}": surface_points(made, t, np.full(SAMPLES, float(k))) for k in (0, 1)}
    return SurfaceMade(made, runs=runs)


def make_surface_twin(settings: TwinSettings, given: Given, *_: object) -> SurfaceMade:
    """Mirror a surface; its normals point outward as the original's do."""
    return SurfaceMade(mirror_image(given.one("surface"), mirror_plane(settings, given)))


def within(settings: object, distance: float) -> object:
    """Return settings that ask for a distance, where they ask for any."""
    return replace(settings, within=distance) if isinstance(settings, Spend) else settings
