"""What makes bodies, by the names of recipes; the kernel is loaded here, in its own process."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from importlib import import_module
from typing import Any

from usual_clay.core.body.body_shape import BodyError, BodyMade
from usual_clay.core.progress import Progress, silent

# The function that makes each kind.
MAKERS = {
    "join": "join.join",
    "close": "join.close",
    "cover": "covered.cover_loop",
    "trim": "trim.trim",
    "split": "trim.split",
    "pad": "pad.pad",
    "cut": "pad.cut",
    "drill": "drill.drill",
    "unite": "combine.unite",
    "take away": "combine.take_away",
    "intersect": "combine.intersect",
    "mirror and unite": "combine.mirror_and_unite",
    "shell": "hollow.shell",
    "thicken": "hollow.thicken",
    "round": "rounds.round_edges",
    "bevel": "rounds.bevel_edges",
}


def operate(
    kind: str,
    settings: Any,
    by_role: Mapping[str, Sequence[tuple[str, Any]]],
    progress: Progress = silent,
) -> BodyMade:
    """Make a body.

    Parameters
    ----------
    kind : str
        Of the recipe.
    by_role : mapping
        The sources, each with its name.

    Raises
    ------
    BodyError
        What cannot be made, and why.
    """
    from usual_clay.core.body.sources import Taken

    file, function = MAKERS[kind].split(".")
    make = getattr(import_module(f"usual_clay.core.body.{file}"), function)
    try:
        made: BodyMade = make(settings, Taken(by_role), progress)
    except (BodyError, MemoryError):
        raise
    except Exception as error:
        if type(error).__module__.startswith("OCP"):
            said = " ".join(str(error).split())[:120] or type(error).__name__
            raise BodyError(f"the geometry kernel cannot do this here ({said})") from None
        raise
    return made
