"""The one base of all errors that a user can put right."""

from __future__ import annotations


class ClayError(Exception):
    """What was wrong, where, and what to do, in words that are shown as they are.

    Anything else that is raised is a defect of ours: it is logged, and told as such.
    """


class GeometryError(ClayError, ValueError):
    """Numbers or shapes that make no sense together."""


class FitError(GeometryError):
    """Data that nothing of the asked kind can be fitted to."""


def sentence(words: object) -> str:
    """Return what an error or a function says as a sentence."""
    text = str(words)
    stop = "" if not text or text.endswith((".", "!", "?")) else "."
    return f"{text[:1].upper()}{text[1:]}{stop}"
