"""What a report tells of a job, as plain words and numbers."""

from __future__ import annotations

import time
from dataclasses import fields
from typing import Any

import numpy as np

from usual_clay import __version__
from usual_clay.core.check.joints import FoundJoint, find_joints
from usual_clay.core.progress import Progress, silent, stretch
from usual_clay.job.checking import (
    AgainstScan,
    NothingNearError,
    against_scan,
    checked_items,
    faces_in,
)
from usual_clay.job.edits.bodies import cost_of
from usual_clay.job.items import (
    Accepted,
    Body,
    Curve,
    Dimension,
    Fitted,
    Floating,
    Followed,
    Judged,
    Scan,
    Surface,
)
from usual_clay.job.job import Job
from usual_clay.job.kinds import item_kind
from usual_clay.job.recipes import kind_of
from usual_clay.job.remake import is_stale

# Faces no farther apart have a joint, mm; and so many spots are told.
LIMIT, MOST_SPOTS = 0.2, 30


def report_of(job: Job, progress: Progress = silent) -> dict[str, Any]:
    """Return what there is to tell of a job, for JSON.

    Lengths are mm, angles degrees. What is visible is told, and how all of it was made.
    """
    items = checked_items(job)
    progress(0.0, "Measuring joints")
    joints = find_joints(faces_in(items), LIMIT, stretch(progress, 0.0, 0.5))
    progress(0.5, "Judging by the scan")
    scan = next(job.all(Scan), None)
    found, unjudged = None, ""
    if scan is not None and items:
        try:
            found = against_scan(items, scan.mesh, job.tolerance, list(job.all(Accepted)))
        except NothingNearError as error:
            unjudged = str(error)
    progress(0.9, "Writing")
    shown = [item for item in job.items.values() if item.visible]
    return {
        "job": job.name,
        "made_with": f"Usual Clay {__version__}",
        "date": time.strftime("%Y-%m-%d %H:%M"),
        "tolerance": job.tolerance.deviation,
        "share": job.tolerance.share,
        "scans": [
            {"name": each.name, "source": each.source, "triangles": len(each.mesh.triangles)}
            for each in job.all(Scan)
        ],
        "items": [_row(job, item) for item in shown if isinstance(item, Curve | Surface)],
        "bodies": [_body(job, item) for item in shown if isinstance(item, Body)],
        "dimensions": [dimension_row(each) for each in shown if isinstance(each, Dimension)],
        "floating": [_floating(item) for item in shown if isinstance(item, Floating)],
        "joints": [joint_row(joint) for joint in joints],
        "against_scan": None if found is None else scan_rows(found),
        "not_judged": unjudged,
        "recipes": [_made_by(job, item) for item in job.all(Followed) if item.recipe is not None],
    }


def _figures(job: Job, item: Judged) -> dict[str, Any]:
    report = job.report(item)
    if report is None:
        return {"within_share": None, "rms": None, "p95": None, "max": None, "met": None}
    return {
        "within_share": report.within_share,
        "rms": report.rms,
        "p95": report.p95,
        "max": report.max,
        "met": report.met,
    }


def _row(job: Job, item: Fitted) -> dict[str, Any]:
    geometry: Any = item.geometry
    degree = geometry.degrees if isinstance(item, Surface) else (geometry.degree,)
    return {
        "name": item.name,
        "kind": item_kind(item).word,
        "control_points": list(item.counts),
        "total": item.control_points,
        "degree": list(degree),
        "stale": is_stale(job, item),
    } | _figures(job, item)


def _body(job: Job, body: Body) -> dict[str, Any]:
    shape = body.shape
    return {
        "name": body.name,
        "solid": shape.is_solid,
        "valid": shape.valid,
        "faces": shape.faces,
        "open_edges": shape.open_edges,
        "control_points": cost_of(job, body),
        "volume": shape.volume,
        "area": shape.area,
        "density": body.density,
        "mass": body.mass,
        "centre": shape.centre.tolist(),
        "stale": is_stale(job, body),
    } | _figures(job, body)


def dimension_row(item: Dimension) -> dict[str, Any]:
    """Return what was measured in its unit, and between which places, mm."""
    figure, settings = item.figure, None if item.recipe is None else item.recipe.settings
    row = {"name": item.name, "what": getattr(settings, "kind", "")}
    if figure is None:
        return row | {"value": None, "unit": "", "ends": []}
    value = figure.value if np.isfinite(figure.value) else None
    return row | {"value": value, "unit": figure.unit, "ends": figure.ends[[0, -1]].tolist()}


def _floating(item: Floating) -> dict[str, Any]:
    lying = item.lying
    if lying is None:
        return {"name": item.name}
    lies, curve = lying.afloat, lying.curve
    return {
        "name": item.name,
        "mass": lying.mass,
        "draft": lies.draft,
        "trim": float(np.degrees(lies.trim)),
        "heel": float(np.degrees(lies.heel)),
        "displaced": lies.wet.volume,
        "gm": lies.gm(),
        "greatest_arm": None if curve is None else curve.greatest,
        "turns_over_past": None
        if curve is None or curve.vanishes is None
        else float(np.degrees(curve.vanishes)),
        "goes_under": {
            name: float(np.degrees(angle)) if np.isfinite(angle) else None
            for name, angle in lying.under.items()
        },
    }


def joint_row(joint: FoundJoint) -> dict[str, Any]:
    """Return a joint in mm, degrees and 1/mm."""
    return {
        "between": " and ".join(joint.between),
        "length": joint.length,
        "gap": joint.gap,
        "angle": float(np.degrees(joint.angle)),
        "curvature_step": joint.step,
        "flow": joint.flow,
        "mean_gap": joint.mean_gap,
        "mean_angle": float(np.degrees(joint.mean_angle)),
        "mean_curvature_step": joint.mean_step,
        "mean_flow": joint.mean_flow,
        "class": joint.grade,
        "at": joint.at.tolist(),
    }


def scan_rows(found: AgainstScan, most: int = MOST_SPOTS) -> dict[str, Any]:
    """Return how all of it lies against a scan."""
    report = found.report
    return {
        "within_share": report.within_share,
        "rms": report.rms,
        "p95": report.p95,
        "at_share": report.at_share,
        "max": report.max,
        "unmade_area": found.unmade,
        "unmeasured_area": found.unmeasured,
        "spots": [
            {
                "area": spot.area,
                "greatest": spot.greatest,
                "mean": spot.mean,
                "at": spot.at.tolist(),
            }
            for spot in found.spots[:most]
        ],
        "accepted": [
            {"note": note, "area": spot.area, "greatest": spot.greatest, "at": spot.at.tolist()}
            for note, spot in found.accepted
        ],
        "spots_in_all": len(found.spots),
    }


def _made_by(job: Job, item: Followed) -> dict[str, Any]:
    """Return how an item was made, in plain words."""
    recipe = item.recipe
    assert recipe is not None
    kind = kind_of(recipe.kind)
    sources = {
        kind.role(role).words: [
            job.items[each].name if each in job.items else "gone" for each in ids
        ]
        for role, ids in recipe.by_role
    }
    plain = {
        field.name: value
        for field in fields(recipe.settings)
        if isinstance(value := getattr(recipe.settings, field.name), str | int | float | bool)
        and value != field.default
    }
    return {"name": item.name, "made": kind.title, "from": sources, "with": plain}
