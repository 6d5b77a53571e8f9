"""``python -m usual_clay``."""

import sys

from usual_clay.cli.main import main

sys.exit(main())
