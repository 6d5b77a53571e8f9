"""All commands, station by station, and then those of every station."""

from __future__ import annotations

from usual_clay.bench.command import Command
from usual_clay.bench.commands import body, check, deliver, everywhere, gather, surface, trace

ALL: tuple[Command, ...] = (
    *gather.COMMANDS,
    *trace.COMMANDS,
    *surface.COMMANDS,
    *check.COMMANDS,
    *body.COMMANDS,
    *deliver.COMMANDS,
    *everywhere.COMMANDS,
)
