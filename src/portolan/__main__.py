"""`python -m portolan`."""

import sys

from portolan.cli.main import main

sys.exit(main())
