"""Edits of pictures that the interface can make in a session."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from usual_clay.bench.edits.making import start_making
from usual_clay.bench.edits.scans import ask
from usual_clay.bench.session import Session
from usual_clay.core.arrays import Floats
from usual_clay.core.picture.outline import OutlineSettings
from usual_clay.core.picture.placement import (
    Placement,
    PlacementError,
    from_space,
    scaled_by_marks,
)
from usual_clay.core.picture.square_up import Squared, checked_corners, square_up
from usual_clay.files.picture_file import PictureRead, decode, encoded
from usual_clay.job.edits import make
from usual_clay.job.edits.pictures import (
    Row,
    marks_in_pixels,
    scaled,
    with_pictures,
)
from usual_clay.job.items import Picture


def pin(session: Session, read: Sequence[tuple[str, PictureRead]], row: Row) -> None:
    """Pin pictures, one or several on a row of parallel planes, alike in place and scale."""
    job, last = with_pictures(session.job, read, row)
    session.commit(job, f"pin {len(read)} pictures" if len(read) > 1 else f"pin {last.name}")
    session.choice.choose(last.id)


def place(session: Session, picture: Picture, placement: Placement, words: str) -> None:
    """Put a picture elsewhere; a number that is changed again stays one step."""
    if placement != picture.placement:
        session.change(picture, words, onto_last=True, placement=placement)


def scale_by(
    session: Session,
    picture: Picture,
    points: Floats,
    length: float,
    others: Sequence[Picture] = (),
) -> None:
    """Scale a picture so that two marks on it are a known length apart, and others with it."""
    if not session.may_change(picture):
        return
    try:
        if len(points) != 2:
            raise PlacementError("set two marks on the picture first")
        first, second = marks_in_pixels(picture, points)
        now = scaled_by_marks(picture.placement, picture.size, first, second, length)
    except PlacementError as error:
        session.told.emit("trouble", f"{picture.name} was not scaled: {error}.")
        return
    session.commit(scaled(session.job, picture, now, others), f"scale {_named(picture, others)}")


def square(
    session: Session,
    picture: Picture,
    points: Floats,
    rectangle: tuple[float, float],
    others: Sequence[Picture] = (),
) -> None:
    """Square a picture up from the marks on a rectangle's corners; resampled once.

    Others, photographed alike, are squared up with the same corners.
    """
    if not session.may_change(picture):
        return
    try:
        corners = marks_in_pixels(picture, points)
        checked_corners(corners)
    except PlacementError as error:
        session.told.emit("trouble", f"{picture.name} was not squared up: {error}.")
        return
    pictures = (picture, *others)
    middle = from_space(picture.placement, points).mean(axis=0)
    width, height = rectangle

    def done(made: list[Squared]) -> None:
        job = session.job
        if any(job.items.get(one.id) is not one for one in pictures):
            return
        for one, squared in zip(pictures, made, strict=True):
            place = Placement(
                one.placement.plane,
                squared.width,
                squared.height,
                float(middle[0]),
                float(middle[1]),
                offset=one.placement.offset,
            )
            size = (squared.pixels.shape[1], squared.pixels.shape[0])
            data = encoded(squared.pixels)
            job = job.changed(one.id, data=data, size=size, placement=place, scaled=True)
        named = _named(picture, others)
        session.commit(job, f"square up {named}")
        verb = "are" if others else "is"
        session.told.emit(
            "news", f"{named} {verb} squared up: the rectangle is now {width:g} × {height:g} mm."
        )

    ask(
        session,
        picture.id,
        "square up",
        f"Squaring up {_named(picture, others)}",
        lambda: [square_up(decode(one.data), corners, width, height) for one in pictures],
        done,
    )


def _named(picture: Picture, others: Sequence[Picture]) -> str:
    return f"{picture.name} and {len(others)} like it" if others else picture.name


def add_outline(session: Session, picture: Picture, settings: OutlineSettings) -> None:
    """Find an outline in a picture; it becomes a point list that follows the picture."""
    item = make.planned(session.job, "outline", settings, picture=picture.id)
    item = replace(item, source=picture.name)  # type: ignore[call-arg]
    start_making(session, item, f"Outlining {picture.name}", f"outline of {picture.name}")
