"""Near misses, harmless text, places."""

import re
import unicodedata

import pytest
from hypothesis import given
from hypothesis import strategies as st

from portolan.source.nearest import did_you_mean, distance, nearest
from portolan.source.place import keys_of, pointer
from portolan.source.plain import UNSEEN, one_line, plain, unseen
from portolan.source.words import Words

WORDS = st.text(alphabet="abc", max_size=6)


@given(WORDS, WORDS)
def test_distance_is_symmetric_and_zero_only_for_equals(left, right):
    """As a distance is."""
    assert distance(left, right, 9) == distance(right, left, 9)
    assert (distance(left, right, 9) == 0) == (left == right)


@given(WORDS, WORDS, st.integers(0, 4))
def test_the_limit_only_cuts(left, right, limit):
    """Above the limit it says one more."""
    assert distance(left, right, limit) == min(distance(left, right, 99), limit + 1)


@pytest.mark.parametrize(
    ("left", "right", "edits"),
    [
        ("visit", "visti", 1),
        ("visit", "vist", 1),
        ("visit", "visiit", 1),
        ("visit", "vizit", 1),
        ("ab", "ba", 1),
        ("", "abc", 3),
    ],
)
def test_known_distances(left, right, edits):
    """A swap of neighbours is one edit."""
    assert distance(left, right, 5) == edits


def test_the_nearest_spelling():
    """Short words allow fewer edits; the hint lists a short choice when nothing is near."""
    assert nearest("visti", ["visit", "other"]) == "visit"
    assert nearest("abc", ["xyz"]) is None
    assert did_you_mean("zzz", ["one", "two"]) == "Known here: one, two."
    assert did_you_mean("x", []) == ""


@given(st.text())
def test_nothing_that_moves_a_terminal_is_left(text):
    """No control, format or surrogate character but the line feed."""
    shown = plain(text)
    assert not [char for char in shown if char != "\n" and unicodedata.category(char)[0] == "C"]
    assert not re.search(UNSEEN.replace("\\u0000-\\u001f", ""), shown)
    assert "\n" not in one_line(text)
    assert len(one_line(text, 20)) <= 20


def test_json_pointers():
    """RFC 6901 section 3."""
    assert pointer(("a/b", "m~n", 0)) == "/a~1b/m~0n/0"
    assert keys_of("/a~1b/m~0n/0") == ("a/b", "m~n", "0")


def test_characters_that_nobody_sees_are_those_of_unicode():
    """The written list holds what this Python's Unicode tables call control, format or separator, and nothing seen."""
    listed = re.compile(UNSEEN)
    told = {code for code in range(0x110000) if listed.match(chr(code))}
    known = {code for code in range(0x110000) if unicodedata.category(chr(code)) in ("Cc", "Cf", "Zl", "Zp")}
    assert known <= told
    # An older table than 15.1 has not assigned some yet.
    others = {code for code in told - known if unicodedata.category(chr(code)) != "Cn"}
    # Letters, marks and a sign that are shown as nothing: Default_Ignorable_Code_Point, and the notehead that is none.
    marks = {0x34F, 0x17B4, 0x17B5, *range(0x180B, 0x180E), 0x180F, *range(0xFE00, 0xFE10), *range(0xE0100, 0xE01F0)}
    assert others == marks | {0x115F, 0x1160, 0x3164, 0xFFA0, 0x1D159}


#: Letters and marks that are shown as nothing where they are not understood (Default_Ignorable_Code_Point of Unicode 15.1).
IGNORED = "\u00ad\u034f\u061c\u115f\u1160\u17b4\u17b5\u180b\u180e\u180f\u200b\u2065\u3164\ufe00\ufe0f\ufeff\uffa0\ufff0\U0001bca3\U0001d173\U000e0000\U000e0100\U000e0fff"


@pytest.mark.parametrize("char", IGNORED, ids=lambda char: f"U+{ord(char):04X}")
def test_letters_that_nobody_sees_are_found_and_shown(char):
    """Two names that look the same are the same; whatever their category is."""
    assert unseen(f"web{char}") == char
    assert plain(f"web{char}").isascii()


def test_of_many_words_the_near_ones_are_looked_at():
    """One letter changed, lost or doubled: the word that was meant is nearly always among few."""
    last = ("dome", "moon", "tide", "star", "north", "sky")
    words = Words(f"{first}{each}.kestrel.example" for first in "abcdefghij" for each in last)
    words.update(f"n{number}.ridge.example" for number in range(440))
    found = []
    for word in list(words)[::7]:
        for at in range(len(word)):
            before, after = word[:at], word[at + 1 :]
            for slip in (f"{before}x{after}", before + after, before + word[at] + word[at:]):
                found.append(word in words.near(slip, "."))
    assert sum(found) > 0.95 * len(found), sum(found) / len(found)
    assert len(words.near("n77.ridge.example", ".")) < 80
    assert "ridge.example" in Words([*words, "ridge.example"]).near("n77.ridge.example", ".")
