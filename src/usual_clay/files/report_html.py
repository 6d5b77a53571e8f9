"""A report as one HTML file: tables that break well, and pictures within it."""

from __future__ import annotations

import base64
import html
from collections.abc import Mapping, Sequence
from typing import Any

from usual_clay.core.errors import sentence

STYLE = """
body { font-family: Inter, sans-serif; font-size: 9pt; color: #2B2A28; }
h1 { font-size: 18pt; color: #8E3D1B; margin-bottom: 0; }
h2 { font-size: 12pt; color: #8E3D1B; margin-top: 16pt; margin-bottom: 4pt; }
p.soft { color: #6B645B; }
table { border-collapse: collapse; width: 100%; }
th { text-align: left; color: #6B645B; font-weight: 600; border-bottom: 1px solid #E2D9CC; }
td, th { padding: 2pt 6pt 2pt 0; vertical-align: top; }
td.n, th.n { text-align: right; }
td.out { color: #7B2D5B; font-weight: 600; }
tr { page-break-inside: avoid; }
"""


def report_html(told: Mapping[str, Any], pictures: Sequence[tuple[str, bytes]] = ()) -> str:
    """Return a report as a page.

    Parameters
    ----------
    told : mapping
        As `job.reporting.report_of` gives it.
    pictures : sequence of (str, bytes)
        What each shows, and its PNG file.
    """
    share = f"{100 * told['share']:g} %"
    parts = [
        f"<h1>{_text(told['job'])}</h1>",
        f'<p class="soft">{_text(told["date"])}, {_text(told["made_with"])}. Judged within'
        f" {told['tolerance']:g} mm at {share}. Lengths in mm, angles in degrees.</p>",
        *_scans(told),
        *(_picture(words, data) for words, data in pictures),
        *_items(told, share),
        *_bodies(told, share),
        *_floating(told),
        *_dimensions(told),
        *_against(told, share),
        *_joints(told),
        *_recipes(told),
    ]
    title = _text(told["job"])
    return (
        f'<!DOCTYPE html><html lang="en"><head><meta charset="utf-8"><title>{title}</title>'
        f"<style>{STYLE}</style></head><body>{''.join(parts)}</body></html>"
    )


def _text(value: object) -> str:
    return html.escape(str(value))


def _picture(words: str, data: bytes) -> str:
    coded = base64.b64encode(data).decode("ascii")
    alt = _text(words)
    return (
        f'<p><img src="data:image/png;base64,{coded}" width="640" alt="{alt}"></p>'
        f'<p class="soft">{alt}</p>'
    )


def _number(value: object, digits: int = 3) -> str:
    return "–" if value is None else f"{value:.{digits}f}".replace("-", "−")


def _table(title: str, heads: Sequence[str], rows: Sequence[Sequence[str]], words: int = 1) -> str:
    """Return a table under a heading; columns past the first words are numbers."""
    if not rows:
        return ""

    def cell(tag: str, k: int, value: str) -> str:
        out = value.startswith("!")
        kind = "out" if out else "n" if k >= words else ""
        side = ' align="right"' if k >= words else ""
        return f'<{tag} class="{kind}"{side}>{value.removeprefix("!")}</{tag}>'

    head = "".join(cell("th", k, _text(name)) for k, name in enumerate(heads))
    body = "".join(
        f"<tr>{''.join(cell('td', k, value) for k, value in enumerate(row))}</tr>" for row in rows
    )
    return (
        f"<h2>{_text(title)}</h2><table width='100%'><thead><tr>{head}</tr></thead>"
        f"<tbody>{body}</tbody></table>"
    )


def _scans(told: Mapping[str, Any]) -> list[str]:
    found = []
    for scan in told["scans"]:
        source = f", from {_text(scan['source'])}" if scan["source"] else ""
        words = f"{_text(scan['name'])}, {scan['triangles']} triangles{source}"
        found.append(f'<p class="soft">Measured: {words}.</p>')
    return found


def _met(value: object) -> str:
    return "not judged" if value is None else "met" if value else "!out"


def _judged(row: Mapping[str, Any]) -> list[str]:
    share = row["within_share"]
    return [
        "–" if share is None else f"{100 * share:.1f} %",
        _number(row["rms"]),
        _number(row["p95"]),
        _number(row["max"]),
        _met(row["met"]),
    ]


def _items(told: Mapping[str, Any], _share: str) -> list[str]:
    rows = [
        [
            _text(row["name"]),
            _text(row["kind"]),
            " × ".join(map(str, row["control_points"])),
            str(row["total"]),
            " × ".join(map(str, row["degree"])),
            *_judged(row),
        ]
        for row in told["items"]
    ]
    heads = ("Name", "Kind", "Points", "In all", "Degree", "Within", "rms", "95 %", "Greatest", "")
    return [_table("Curves and surfaces", heads, rows, 2)]


def _bodies(told: Mapping[str, Any], _share: str) -> list[str]:
    rows = [
        [
            _text(row["name"]),
            "solid" if row["solid"] else f"!open, {row['open_edges']} edges",
            str(row["faces"]),
            str(row["control_points"]),
            _number(row["volume"] / 1000),
            _number(row["area"] / 100, 2),
            _number(row["mass"], 2) if row["solid"] else "–",
            *_judged(row),
        ]
        for row in told["bodies"]
    ]
    heads = ("Name", "Is", "Faces", "Points", "cm³", "cm²", "g", "Within", "rms", "95 %",
             "Greatest", "")  # fmt: skip
    return [_table("Bodies", heads, rows, 2)]


def _dimensions(told: Mapping[str, Any]) -> list[str]:
    rows = [
        [
            _text(row["name"]),
            _text(row["what"]),
            "infinite" if row["value"] is None else f"{row['value']:.3f} {row['unit']}",
        ]
        for row in told["dimensions"]
        if row["unit"]
    ]
    return [_table("Dimensions", ("Name", "What", "Measures"), rows, 2)] if rows else []


def _floating(told: Mapping[str, Any]) -> list[str]:
    parts = []
    for row in told["floating"]:
        if "draft" not in row:
            continue
        under = [
            f"{_text(name)} goes under at {angle:.0f}°" if angle is not None
            else f"{_text(name)} never goes under"
            for name, angle in row["goes_under"].items()
        ]  # fmt: skip
        over = row["turns_over_past"]
        words = [
            f"{row['mass']:.2f} g, draft {row['draft']:.2f}, trim {row['trim']:.2f}°, heel"
            f" {row['heel']:.2f}°, displaces {row['displaced'] / 1000:.3f} cm³, GM {row['gm']:.2f}",
            *([f"greatest righting arm {row['greatest_arm']:.2f}"] if row["greatest_arm"] else []),
            *([f"turns over past {over:.0f}°"] if over is not None else []),
            *under,
        ]
        parts.append(f"<h2>Afloat: {_text(row['name'])}</h2><p>{'; '.join(words)}.</p>")
    return parts


def _against(told: Mapping[str, Any], share: str) -> list[str]:
    found = told["against_scan"]
    if found is None:
        why = told["not_judged"]
        return [f"<h2>All of it against the scan</h2><p>{_text(sentence(why))}</p>"] if why else []
    unmade, unmeasured = found["unmade_area"] / 100, found["unmeasured_area"] / 100
    words = (
        f"<h2>All of it against the scan</h2><p>{100 * found['within_share']:.1f} % of the area"
        f" within {told['tolerance']:g}; {share} within {found['at_share']:.3f};"
        f" rms {found['rms']:.3f}; greatest {found['max']:.3f}. Of the scan {unmade:.2f} cm² are"
        f" not made; of what is made {unmeasured:.2f} cm² were never measured.</p>"
    )
    rows = [
        [str(k), _number(spot["area"], 1), _number(spot["greatest"]), _number(spot["mean"]),
         ", ".join(_number(x, 1) for x in spot["at"])]
        for k, spot in enumerate(found["spots"], 1)
    ]  # fmt: skip
    more = found["spots_in_all"] - len(found["spots"])
    heads = ("Spot", "Area, mm²", "Greatest", "Mean", "At")
    rest = f'<p class="soft">and {more} smaller ones.</p>' if more > 0 else ""
    taken = [
        [_text(spot["note"]), _number(spot["area"], 1), _number(spot["greatest"]),
         ", ".join(_number(x, 1) for x in spot["at"])]
        for spot in found["accepted"]
    ]  # fmt: skip
    apart = _table("Accepted, counted apart", ("Note", "Area, mm²", "Greatest", "At"), taken)
    return [words, _table("Spots out of tolerance", heads, rows), rest, apart]


def _joints(told: Mapping[str, Any]) -> list[str]:
    rows = [
        [
            _text(row["between"]),
            "!open" if row["class"] == "open" else row["class"],
            _number(row["length"], 1),
            _number(row["gap"], 4),
            _number(row["angle"], 2),
            _number(row["curvature_step"], 4),
            _number(row["flow"], 5),
        ]
        for row in told["joints"]
    ]
    heads = (
        "Between",
        "Class",
        "Length",
        "Gap",
        "Angle",
        "Curvature step, 1/mm",
        "Its flow, 1/mm²",
    )
    return [_table("Joints", heads, rows, 2)]


def _recipes(told: Mapping[str, Any]) -> list[str]:
    rows = []
    for row in told["recipes"]:
        sources = "; ".join(f"{role.lower()}: {', '.join(names)}" for role, names in
                            row["from"].items())  # fmt: skip
        settings = ", ".join(f"{name.replace('_', ' ')} {value}" for name, value in
                             row["with"].items())  # fmt: skip
        rows.append([_text(row["name"]), _text(row["made"]), _text(sources), _text(settings)])
    return [_table("How it was made", ("Name", "By", "From", "With"), rows, 4)]
