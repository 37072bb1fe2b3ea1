"""Patterns of grants and keys: as the standard library has them, and in bounded time."""

import re

from hypothesis import given
from hypothesis import strategies as st

from portolan.store.buckets import fits_object, matches

WORDS = st.text("ab/*?", max_size=8)


def by_library(typed: str, text: str) -> bool:
    """The same by a regular expression."""
    parts = (".*" if char == "*" else "." if char == "?" else re.escape(char) for char in typed)
    return re.fullmatch("".join(parts), text, re.DOTALL) is not None


@given(WORDS, st.text("ab/", max_size=10))
def test_a_pattern_says_what_the_library_says(typed, text):
    """`*` for anything, `?` for one character."""
    assert matches(typed, text) is by_library(typed, text)


@given(st.text("ab/*", max_size=8), st.text("ab?/", max_size=10))
def test_a_question_mark_in_a_key_is_itself(typed, text):
    """Keys have stars only."""
    assert matches(typed, text, "") is by_library(typed.replace("?", ""), text)


def test_many_stars_take_no_time():
    """What would take for ever by going back is over at once."""
    assert not matches("*a" * 60 + "*b", "a" * 4000)
    assert fits_object("*a" * 60, "a" * 4000)
