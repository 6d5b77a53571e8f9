"""``python -m usual_clay``."""

from usual_clay.cli.main import run

run()
