"""`python -m dacha` runs the command line."""

import sys

from dacha.cli.main import main

sys.exit(main())
