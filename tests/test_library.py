"""The examples in the documents work as they stand."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from usual_clay.core.spline.surface import surface_points

HERE = Path(__file__).parents[1]


def test_the_examples_of_the_library_run_and_give_what_they_say() -> None:
    text = (HERE / "docs" / "library.md").read_text(encoding="utf-8")
    examples = re.findall(r"```python\n(.*?)```", text, re.DOTALL)
    assert len(examples) == 4
    # One after the other, as a reader would type them.
    names: dict[str, Any] = {}
    for example in examples:
        exec(compile(example, "library.md", "exec"), names)
    x = names["curve"].points[:, 0]
    assert len(x) < 20
    assert np.quantile(np.abs(names["signed"]), 0.95) <= 0.05
    assert names["made"].surface.counts == (8, 6)
    assert np.quantile(np.abs(names["made"].feet.signed), 0.95) < 0.05
    middle = names["corners"].mean(axis=0)
    assert surface_points(names["patch"], [0.5], [0.5])[0] == pytest.approx(middle)
    twin = names["job"].items[names["twin"].id]
    assert twin.geometry.points[:, 1] == pytest.approx(-names["curve"].points[:, 1])


def test_documents_link_to_what_is_there() -> None:
    for document in (*HERE.glob("*.md"), *(HERE / "docs").glob("*.md")):
        for link in re.findall(r"\]\(([^)#:]+)\)", document.read_text(encoding="utf-8")):
            assert (document.parent / link).exists(), f"{document.name} links to {link}"
