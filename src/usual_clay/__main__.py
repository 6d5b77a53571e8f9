"""``python -m usual_clay``."""

import sys

from usual_clay.cli import main

sys.exit(main())
