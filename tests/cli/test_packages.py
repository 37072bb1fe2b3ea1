"""Packages that are loaded without what nothing here uses."""

import re
import subprocess
import sys

from portolan.cli.packages import NOT_PRINTABLE, SHORTER


def test_both_patterns_take_the_same():
    """Of every character there is."""
    every = "".join(map(chr, range(sys.maxunicode + 1)))
    assert re.findall(NOT_PRINTABLE, every) == re.findall(SHORTER, every) != []


#: What is looked at in an interpreter of its own, after the packages were loaded.
LOADED = """
import re, sys
whole = re.compile
from portolan.cli.packages import SHORTER, load_packages
load_packages()
import yaml.reader
assert re.compile is whole and "typing_extensions" not in sys.modules
assert yaml.reader.Reader.NON_PRINTABLE.pattern == SHORTER
"""


def test_nothing_is_left_otherwise():
    """What was changed for the loading is as it was; the reader's pattern is the shorter one."""
    assert subprocess.run([sys.executable, "-c", LOADED], check=False).returncode == 0
