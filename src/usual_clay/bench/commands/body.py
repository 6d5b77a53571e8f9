"""Body: surfaces joined to a solid or an open shell; its commands come with bodies."""

from __future__ import annotations

from usual_clay.bench.command import Command

COMMANDS: tuple[Command, ...] = ()
