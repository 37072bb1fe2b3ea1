"""Limits of requests by address, where the address is that of a front."""

import pytest

from portolan.diagnosis.lint import lint
from portolan.journey.world import World
from tests.conftest import OFFICE, loaded, swap
from tests.diagnosis.test_every_fault import fronted

RATED = "          inner: {files: [index.html], rate: {requests: 10}MORE}\n"
BELIEVED = ", believes_address: {header: X-Real-IP, from: [10.20.0.15]}"
SAYS = '{to: "http://10.20.0.16:8080", headers: {X-Real-IP: "{client}"}}'


@pytest.mark.parametrize(("more", "told"), [("", 1), (BELIEVED, 0)])
def test_all_who_come_through_a_front_share_it(more, told):
    """Unless the program behind believes the front's word on who asks."""
    held = loaded(swap(OFFICE, *fronted(SAYS, RATED.replace("MORE", more))))
    found = [each for each in lint(World(held.estate, held.estate.at)) if each.code == "rate-shared"]
    assert len(found) == told
    assert all("asks for everybody: all share it" in each.text for each in found)
