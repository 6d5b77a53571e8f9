"""What alters a chosen surface, with what the user should know of it."""

from __future__ import annotations

from collections.abc import Sequence

from usual_clay.core.build.alter import Altered, became
from usual_clay.core.build.surface_edits import (
    BorderSettings,
    EvenSettings,
    LongerSettings,
    MatchSettings,
    MeetTwinSettings,
    MirrorSettings,
    PartSettings,
    TurnOverSettings,
    evenly_spaced,
    longer,
    matched,
    meeting_its_twin,
    mirrored_surface,
    moved_by,
    nearest_sides,
    with_border,
)
from usual_clay.core.check.edges import edge_joint
from usual_clay.core.fit.solve.remake import SlimSurfaceSettings, slim_surface
from usual_clay.core.spline.boundary import edge_of
from usual_clay.core.spline.knots import reverse, split
from usual_clay.core.spline.surface import BSplineSurface

# What of a task's results takes the place of the second source.
SECOND = "second"


def slimmed_surface(settings: SlimSurfaceSettings, sources: Sequence[BSplineSurface]) -> Altered:
    """Remake a surface with fewer control points."""
    (surface,) = sources
    made = slim_surface(surface, settings)
    before, after = (f"{s.counts[0]} × {s.counts[1]}" for s in (surface, made.surface))
    if made.surface is surface:
        return Altered(
            (surface,),
            f"fewer than {before} control points do not stay within"
            f" {settings.within:g} mm: it stays as it is",
        )
    return Altered((made.surface,), became(before, after, made.moved))


def extended_surface(settings: LongerSettings, sources: Sequence[BSplineSurface]) -> Altered:
    """Make a surface longer at a side."""
    made = longer(sources[0], settings)
    return Altered(
        (made,),
        f"{settings.by:g} mm longer at {settings.side}, with no control point more;"
        " its last spans run on, curvature and all",
    )


def split_surface(settings: PartSettings, sources: Sequence[BSplineSurface]) -> Altered:
    """Cut a surface along an isocurve."""
    (surface,) = sources
    # Cut along u means at a value of v, and the other way round.
    first, last = split(surface, settings.at, "v" if settings.cut == "u" else "u")
    counts = [f"{s.counts[0]} × {s.counts[1]}" for s in (first, last)]
    words = f"parts of {counts[0]} and {counts[1]} control points"
    if settings.keep == "both":
        return Altered((first, last), words, ("", "part 2"))
    kept = first if settings.keep == "first" else last
    return Altered((kept,), f"{words}; the {settings.keep} is kept")


def bordered_surface(settings: BorderSettings, sources: Sequence[BSplineSurface]) -> Altered:
    """Close a border to a point, or make it straight or flat."""
    (surface,) = sources
    made = with_border(surface, settings)
    return Altered((made,), f"it moves by up to {moved_by(surface, made):.4f} mm")


def symmetric_surface(settings: MirrorSettings, sources: Sequence[BSplineSurface]) -> Altered:
    """Make a surface its own mirror image."""
    (surface,) = sources
    made = mirrored_surface(surface, settings)
    before, after = (f"{s.counts[0]} × {s.counts[1]}" for s in (surface, made))
    return Altered((made,), became(before, after, moved_by(surface, made)))


def meeting_surface(settings: MeetTwinSettings, sources: Sequence[BSplineSurface]) -> Altered:
    """Let a surface meet its mirror image smoothly in a plane."""
    (surface,) = sources
    made = meeting_its_twin(surface, settings)
    return Altered(
        (made,),
        f"its border lies in {settings.axis} = {settings.at:g} and its twin goes on from it in"
        f" curvature; the surface moved by up to {moved_by(surface, made):.3f} mm",
    )


def even_surface(settings: EvenSettings, sources: Sequence[BSplineSurface]) -> Altered:
    """Space control points out evenly."""
    (surface,) = sources
    made = evenly_spaced(surface, settings)
    return Altered(
        (made,),
        f"it moves by up to {moved_by(surface, made):.4f} mm at equal"
        " parameters, most of that within itself",
    )


def turned_over(settings: TurnOverSettings, sources: Sequence[BSplineSurface]) -> Altered:
    """Let a surface face the other way: its rows or its columns run backwards."""
    (surface,) = sources
    return Altered((reverse(surface, settings.along),), "its shape stays")


def matched_surface(settings: MatchSettings, sources: Sequence[BSplineSurface]) -> Altered:
    """Bring a surface's border to another's."""
    surface, other = sources
    one, two = matched(surface, other, settings)
    border = edge_of(one, nearest_sides(one, two)[0]).curve
    moved = [moved_by(old, new) for old, new in ((surface, one), (other, two))]
    words = (
        f"{edge_joint(one, two, border).words}; this surface moves by up to {moved[0]:.4f} mm"
        + (f", the other by {moved[1]:.4f} mm" if settings.moves == "both" else "")
    )
    if settings.moves == "both":
        return Altered((one, two), words, ("", SECOND))
    return Altered((one,), words)
