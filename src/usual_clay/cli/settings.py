"""Settings of a recipe from words: NAME=VALUE, read by the types that its dataclass gives."""

from __future__ import annotations

import argparse
import types
from collections.abc import Sequence
from dataclasses import MISSING, Field, fields
from typing import Any, Literal, Union, get_args, get_origin, get_type_hints

from usual_clay.core.errors import GeometryError
from usual_clay.core.numbers import NumberError, read_number

YES, NO = ("yes", "true", "on", "1"), ("no", "false", "off", "0")


DEGREE_HELP = "default 3; best tries 2 to 5 where knots are adaptive, and keeps the leanest"


class InputError(GeometryError):
    """Something on the command line that makes no sense."""


def degree_of(text: str) -> tuple[int, bool]:
    """Read a degree: a number, or "best", for which several are tried.

    Raises
    ------
    InputError
    """
    if text == "best":
        return 3, True
    if not text.isdecimal():
        raise InputError(f"--degree must be best or a whole number, not {text!r}")
    return int(text), False


def described(settings: type) -> list[tuple[str, str, str]]:
    """Return the name, the type in words and the default of each setting."""
    hints = get_type_hints(settings)
    return [(each.name, type_words(hints[each.name]), _default(each)) for each in fields(settings)]


def _default(field: Field[Any]) -> str:
    if field.default is MISSING:
        return "needed"
    return {True: "yes", False: "no"}.get(field.default, str(field.default)) if isinstance(
        field.default, bool
    ) else str(field.default) or "none"  # fmt: skip


def type_words(hint: Any) -> str:
    """Return what a setting takes, in words."""
    if get_origin(hint) is Literal:
        return " | ".join(str(value) or '""' for value in get_args(hint))
    if get_origin(hint) is tuple:
        inner = [each for each in get_args(hint) if each is not Ellipsis]
        return f"{type_words(inner[0])}, ..." if inner else "list"
    names = {int: "whole number", float: "number", bool: "yes | no", str: "text"}
    return names.get(hint, "made in the window")


def settings_from(settings: type, words: Sequence[str]) -> Any:
    """Return settings with the values that words give, such as ``smoothness=0.2``.

    Raises
    ------
    InputError
        For a name that is none of its settings, or a value that it does not take.
    """
    hints, given = get_type_hints(settings), {}
    for word in words:
        name, equals, text = word.partition("=")
        if not equals:
            raise InputError(f"--set needs NAME=VALUE, not {word!r}")
        if name not in hints:
            known = ", ".join(each.name for each in fields(settings))
            raise InputError(f"there is no setting {name!r}: there are {known or 'none'}")
        given[name] = value_of(hints[name], text, name)
    try:
        return settings(**given)
    except TypeError as error:
        raise InputError(f"a setting is needed: {error}") from None


def decimal(text: str) -> float:
    """Read a number of the command line, with a decimal comma or point."""
    try:
        return read_number(text)
    except NumberError as error:
        raise argparse.ArgumentTypeError(str(error)) from None


def value_of(hint: Any, text: str, name: str) -> Any:
    """Read a value by its type; a decimal comma is a decimal point.

    Raises
    ------
    InputError
    """
    origin, inner = get_origin(hint), get_args(hint)
    if origin is Literal:
        for value in inner:
            if text == str(value):
                return value
        raise InputError(f"{name} takes {type_words(hint)}, not {text!r}")
    if origin in (Union, types.UnionType):
        return None if text in ("", "none") else value_of(inner[0], text, name)
    if origin is tuple:
        parts = [part.strip() for part in text.split(",")] if text else []
        each = [inner[0]] * len(parts) if Ellipsis in inner else list(inner)
        if len(each) != len(parts):
            raise InputError(f"{name} takes {len(each)} values, not {len(parts)}")
        return tuple(value_of(h, part, name) for h, part in zip(each, parts, strict=True))
    try:
        if hint is bool:
            return _truth(text)
        if hint is int:
            return int(text)
        if hint is float:
            return read_number(text)
    except (ValueError, NumberError):
        raise InputError(f"{name} takes a {type_words(hint)}, not {text!r}") from None
    if hint is str:
        return text
    raise InputError(f"{name} is set in the window only")


def _truth(text: str) -> bool:
    if text.lower() in YES:
        return True
    if text.lower() in NO:
        return False
    raise ValueError(text)
