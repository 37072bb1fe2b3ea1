"""Writes docs/portolan.1, the manual page, from the command line itself; a wheel brings it to share/man/man1.

Needs argparse-manpage (`pip install argparse-manpage`).
"""

import os
from pathlib import Path

OUT = Path(__file__).resolve().parent.parent / "docs" / "portolan.1"


def main() -> None:
    """Writes the page: the same each time, whatever the day and the terminal."""
    os.environ |= {"SOURCE_DATE_EPOCH": "1772323200", "COLUMNS": "80"}
    from argparse_manpage.manpage import Manpage

    from portolan.cli.main import parser
    from portolan.version import VERSION

    parser.cache_clear()
    page = Manpage(parser())
    page.source, page.manual = f"portolan {VERSION}", "Portolan"
    named = ".SH NAME\nportolan \\- why a website does not work, and what mends it\n"
    OUT.write_text(str(page).replace(".SH NAME\nportolan\n", named), "utf-8")


if __name__ == "__main__":
    main()
