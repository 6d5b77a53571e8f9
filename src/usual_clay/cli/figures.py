"""The figures of what a recipe made, as reports give them, and its exit code."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np

from usual_clay.cli.codes import MET, NOT_MET
from usual_clay.core.body.body_shape import BodyMade, EdgeGap
from usual_clay.core.body.floating import RightingCurve
from usual_clay.core.body.lying import Lying
from usual_clay.core.check.comb import comb_of
from usual_clay.core.check.deviation import judge, percent
from usual_clay.core.errors import sentence
from usual_clay.core.progress import silent
from usual_clay.core.spline.surface import BSplineSurface
from usual_clay.files.atomic import write_text
from usual_clay.job.items import Body, Curve, Followed, Judged, Shape, Surface
from usual_clay.job.job import Job
from usual_clay.job.kinds import item_kind
from usual_clay.job.made import Given, SurfaceMade
from usual_clay.job.recipes import kind_of
from usual_clay.job.reporting import dimension_row

# Edges nearer than this touch, mm.
TOUCH = 1e-6


def _of_surface(item: Surface) -> dict[str, Any]:
    geometry = item.geometry
    return {
        "control_points": list(geometry.counts),
        "total": item.control_points,
        "degree": list(geometry.degrees),
        "closed": closed_in(geometry),
        "knots": {"u": geometry.knots_u.tolist(), "v": geometry.knots_v.tolist()},
    }


def _of_curve(item: Curve) -> dict[str, Any]:
    return {
        "control_points": [item.control_points],
        "total": item.control_points,
        "degree": item.geometry.degree,
        "inflections": len(comb_of(item.geometry).inflections),
    }


def _of_shape(item: Shape) -> dict[str, Any]:
    shape = item.geometry
    ends = {"point": shape.point.tolist(), "axis": shape.axis.tolist()}
    return {"shape": asdict(shape) | ends}


def _of_body(item: Body) -> dict[str, Any]:
    shape = item.shape
    return {
        "solid": shape.is_solid,
        "valid": shape.valid,
        "faces": shape.faces,
        "names": list(shape.names),
        "volume": shape.volume,
        "area": shape.area,
        "centre": shape.centre.tolist(),
        "inertia": shape.inertia.tolist(),
        "box": shape.box.tolist(),
        "open_edges": shape.open_edges,
        "gaps": [_of_gap(gap) for gap in item.gaps if gap.gap > TOUCH or not gap.closed],
        "spots": [{"words": spot.words, "at": list(spot.at)} for spot in item.spots],
    }


def figures_afloat(lying: Lying) -> dict[str, Any]:
    """Return how a body floats, in mm, degrees and grams."""
    lies, wet, curve = lying.afloat, lying.afloat.wet, lying.curve
    figures: dict[str, Any] = {
        "volume": wet.volume,
        "body_volume": lying.body_volume,
        "mass": lying.mass,
        "wetted_area": wet.area,
        "waterplane_area": wet.plane,
        "waterplane_moments": {"along": wet.along, "across": wet.across},
        "centre_of_buoyancy": wet.centre.tolist(),
        "centre_of_gravity": lies.centre.tolist(),
        "kb": lies.kb,
        "kg": lies.kg,
        "bm": lies.bm(),
        "bm_along": lies.bm("along"),
        "km": lies.kb + lies.bm(),
        "gm": lies.gm(),
        "gm_along": lies.gm("along"),
        "draft": lies.draft,
        "trim": float(np.degrees(lies.trim)),
        "heel": float(np.degrees(lies.heel)),
        "sections": lying.sections.tolist(),
    }
    if lying.arms and curve is not None:
        figures |= _righting(lying, curve)
    return figures


def _righting(lying: Lying, curve: RightingCurve) -> dict[str, Any]:
    return {
        "righting": [
            {
                "angle": float(np.degrees(each.angle)),
                "gz": each.arm,
                "draft": each.draft,
                "trim": float(np.degrees(each.trim)),
                "under": list(each.under),
            }
            for each in lying.arms
        ],
        "greatest_gz": {"gz": curve.greatest, "angle": float(np.degrees(curve.at))},
        "vanishes": None if curve.vanishes is None else float(np.degrees(curve.vanishes)),
        "area_under_gz": curve.area,
        "goes_under": {
            name: float(np.degrees(angle)) if np.isfinite(angle) else None
            for name, angle in lying.under.items()
        },
    }


def _of_gap(gap: EdgeGap) -> dict[str, Any]:
    """Return a gap; of an edge with nothing beside it there is no width to tell."""
    return {
        "between": gap.between,
        "gap": gap.gap if np.isfinite(gap.gap) else None,
        "angle": float(np.degrees(gap.angle)),
        "at": list(gap.at),
        "length": gap.length,
        "closed": gap.closed,
    }


# What there is to say of each kind of item, by its name.
_FIGURES: dict[str, Callable[[Any], dict[str, Any]]] = {
    "surface": _of_surface,
    "curve": _of_curve,
    "shape": _of_shape,
    "body": _of_body,
    "afloat": lambda item: {} if item.lying is None else figures_afloat(item.lying),
    "dimension": lambda item: {} if item.figure is None else dimension_row(item),
    "points": lambda item: {"points": len(item.points), "closed": item.closed},
}


def figures_of(job: Job, item: Followed, given: Given, fair: bool) -> dict[str, Any]:
    """Return what there is to say of an item in numbers: what it costs and how far it is off.

    Parameters
    ----------
    fair : bool
        Whether it is told how fair a surface is, which takes a moment.
    """
    figures = _FIGURES.get(item_kind(item).name, lambda _: {})(item)
    report = job.report(item) if isinstance(item, Judged) else None
    figures["met"] = True
    if report is not None:
        figures |= {
            "points": report.points,
            "within_share": report.within_share,
            "within_share_of_points": report.plain_share,
            "rms": report.rms,
            "p95": report.p95,
            "max": report.max,
            "met": report.met,
        }
        figures |= _noise(given) | _judged(job, item, given, fair)
    return figures


def figures_of_made(job: Job, made: Any) -> dict[str, Any]:
    """Return what only the making of a body or of a surface from curves tells."""
    if isinstance(made, BodyMade):
        return {"met": made.wanted, "words": made.words}
    return _from_curves(job, made)


def _from_curves(job: Job, made: Any) -> dict[str, Any]:
    """Return how near a surface lies to the curves that it was made of, and which do not touch."""
    if not isinstance(made, SurfaceMade) or not made.away:
        return {}
    farthest = {name: float(away.max()) for name, away in made.away.items()}
    near = made.signed is None or judge(made.signed, job.tolerance).met
    return {
        "farthest": max(farthest.values()),
        "farthest_of": farthest,
        "gaps": [asdict(gap) for gap in made.gaps],
        "joints": [
            {"between": name, "gap": gap, "angle": float(np.degrees(angle)), "curvature_step": step}
            for name, gap, angle, step in made.joints
        ],
        "met": near and max(farthest.values()) <= job.tolerance.deviation,
        "words": made.words,
    }


def closed_in(surface: BSplineSurface) -> str:
    """Return the directions in which a surface runs once round, "", "u", "v" or "uv"."""
    size = float(np.ptp(surface.points.reshape(-1, 3), axis=0).max())
    ends = {"u": surface.points[[0, -1]], "v": surface.points[:, [0, -1]].swapaxes(0, 1)}
    return "".join(
        d for d, (first, last) in ends.items() if np.abs(first - last).max() < 1e-9 * size
    )


def _noise(given: Given) -> dict[str, Any]:
    """Return the noise of what is measured, where a source tells it."""
    noise = next((each.noise for each in given if hasattr(each, "noise")), None)
    return {} if noise is None else {"noise": noise}


def _judged(job: Job, item: Followed, given: Given, fair: bool) -> dict[str, Any]:
    """Return how fair a surface is, and what its conditions cost in words where it has any."""
    searching = None if item.recipe is None else kind_of(item.recipe.kind).search
    if searching is None or searching.fairness is None or item.recipe is None:
        return {}
    surface, settings = job.the(item.id, Surface), item.recipe.settings
    assert surface.signed is not None
    figures: dict[str, Any] = {}
    if fair:
        found = searching.fairness(settings, given, surface.geometry, surface.signed, job.tolerance)
        figures["fairness"] = asdict(found)
    if searching.price is not None and (
        words := searching.price(settings, given, surface.geometry, surface.signed, silent)
    ):
        figures["price"] = words
    return figures


def in_words(job: Job, item: Followed, figures: dict[str, Any], said: str) -> str:
    """Return what was made in a sentence."""
    if isinstance(item, Body):
        return _body_in_words(item, figures)
    price = f" {sentence(figures['price'])}" if "price" in figures else ""
    if said:
        return said + price
    cost = item.name
    if "total" in figures:
        each = " × ".join(map(str, figures["control_points"]))
        many = len(figures["control_points"]) > 1
        cost = f"{each} = {figures['total']} control points" if many else f"{each} control points"
    if not isinstance(item, Judged) or (report := job.report(item)) is None:
        return f"{cost}."
    share = percent(job.tolerance.share)
    what = "area lies" if item.by_area else "points lie"
    return f"{cost}: {share} of the {what} within {report.at_share:.3f} mm.{price}"


def _body_in_words(item: Body, figures: dict[str, Any]) -> str:
    shape = item.shape
    size = f"{shape.volume / 1000:.4g} cm³" if shape.is_solid else f"{shape.area / 100:.4g} cm²"
    what = "solid" if shape.is_solid else "open shell"
    words = f"{item.name}: {what} of {shape.faces} faces, {size}"
    return " ".join(sentence(part) for part in (words, figures.get("words", "")) if part)


def write_report(path: Path | None, figures: dict[str, Any]) -> None:
    """Write figures as JSON, where a path is given."""
    if path is not None:
        write_text(path, json.dumps(figures, indent=2) + "\n")


def exit_code(figures: dict[str, Any]) -> int:
    return MET if figures["met"] else NOT_MET
