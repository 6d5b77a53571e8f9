"""What a command returns to the shell."""

from __future__ import annotations

MET, FAULT, BAD_INPUT, NOT_MET = 0, 1, 2, 3
# What a shell gives for a command that was interrupted.
STOPPED = 130
