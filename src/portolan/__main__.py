"""`python -m portolan`."""

import sys

from portolan.cli.entry import main

sys.exit(main())
