"""What is asked before changes nothing: memos know all that their results depend on."""

from hypothesis import given
from hypothesis import strategies as st

from portolan.formats.change import patch_operations
from portolan.formats.estate_file import changed, load
from portolan.formats.files import MemoryFiles
from portolan.journey.visit import visit
from portolan.journey.world import World
from tests.conftest import OFFICE, loaded, swap

WORLD = swap(
    OFFICE,
    ("certificates:\n", """authorities:
  root: {public: false}
  middle: {issued_by: root}
certificates:
  inner: {names: ["*.kestrel-ridge.example"], issuer: middle}
"""),
    ("          other:\n", "          inner: {names: [inner.kestrel-ridge.example], certificate: inner, files: [index.html]}\n          other:\n"),
    ("zones:\n", """zones:
  hosting.example: {keys: [a], ds: [b], delegated_to: [ns.hosting.example], records: ["@ 60 NS ns", "ns 60 A 192.0.2.54"]}
  served.example: {delegated_to: [ns.hosting.example], records: ["@ 60 A 203.0.113.40"]}
  below.kestrel-ridge.example:
    keys: [spring]
    ds: [autumn]
    records: ["@ 60 A 203.0.113.40", "www 60 CNAME visit.kestrel-ridge.example."]
    views: {home: {for: 10.20.0.0/24, records: ["@ 60 A 10.20.0.15"]}}
"""),
    ("      - visit 3600", "      - inner 60 A 203.0.113.40\n      - below 60 NS ns.below\n      - ns.below 60 A 192.0.2.53\n      - visit 3600"),
    ("vantages:\n", """vantages:
  careful: {network: internet, address: 198.51.100.78, resolver: validating}
  asker: {network: dome, address: 10.20.0.51, resolver: 10.20.0.53}
  knowing: {network: dome, address: 10.20.0.52, resolver: 10.20.0.53, trusts: [public, root]}
  seat: {host: orion}
"""),
    ("hosts:\n", """hosts:
  ns:
    interfaces: {internet: {address: 192.0.2.54}}
    services: {dns: {kind: name-server, zones: [hosting.example, served.example]}}
  names:
    interfaces: {dome: {address: 10.20.0.53}}
    services: {cache: {kind: resolver, validates: true}}
"""),
)  # fmt: skip
VANTAGES = ("street", "office", "careful", "asker", "knowing", "seat")
NAMES = ("visit.kestrel-ridge.example", "inner.kestrel-ridge.example", "below.kestrel-ridge.example", "www.below.kestrel-ridge.example",
         "other.kestrel-ridge.example", "nothing.kestrel-ridge.example", "served.example", "10.20.0.15")  # fmt: skip
QUESTIONS = st.lists(
    st.tuples(st.sampled_from(("http", "https")), st.sampled_from(NAMES), st.sampled_from(VANTAGES)), min_size=2, max_size=8, unique=True
)  # fmt: skip
#: A fact of each kind that something remembered may depend on.
CHANGES = [
    [{"op": "remove", "path": "/authorities/middle/issued_by"}],
    [{"op": "replace", "path": "/authorities/root/public", "value": True}],
    [{"op": "add", "path": "/certificates/inner/sends_chain", "value": False}],
    [{"op": "add", "path": "/hosts/names/services/cache/validates", "value": False}],
    [{"op": "add", "path": "/hosts/names/services/cache/refuses", "value": ["visit.kestrel-ridge.example"]}],
    [{"op": "replace", "path": "/vantages/knowing/trusts", "value": ["public"]}],
    [{"op": "add", "path": "/vantages/office/hosts_file", "value": {"lines": ["10.20.0.15 below.kestrel-ridge.example"]}}],
    [{"op": "add", "path": "/vantages/street/clock", "value": "2026-07-01"}],
    [{"op": "replace", "path": "/zones/below.kestrel-ridge.example/ds", "value": ["spring"]}],
    [{"op": "add", "path": "/hosts/orion/services/web/program", "value": "apache"}],
    [{"op": "add", "path": "/routers/gateway/hairpin", "value": "full"}],
]  # fmt: skip


def told(world, scheme, name, vantage):
    """Everything that an answer says."""
    found = visit(world, f"{scheme}://{name}/", world.estate.vantages[vantage])
    return found.outcome, [(each.kind, each.text, str(each.place)) for each in found.decisions]


@given(QUESTIONS)
def test_the_order_of_questions_changes_nothing(questions):
    """Forwards, backwards, and each alone."""
    held = loaded(WORLD)
    forwards, backwards = (World(held.estate, held.estate.at) for _ in range(2))
    first = [told(forwards, *each) for each in questions]
    last = [told(backwards, *each) for each in reversed(questions)]
    assert first == last[::-1]
    assert first == [told(World(held.estate, held.estate.at), *each) for each in questions]


@given(QUESTIONS, st.sampled_from(CHANGES))
def test_a_changed_world_is_as_one_freshly_loaded(questions, change):
    """Whatever was asked before the change."""
    held = loaded(WORLD)
    before = World(held.estate, held.estate.at)
    for each in questions:
        told(before, *each)
    after = changed(held, patch_operations(change))
    shared = before.changed(after.estate)
    fresh = load(MemoryFiles({"estate.yaml": WORLD}), "estate.yaml")
    fresh = changed(fresh, patch_operations(change))
    alone = World(fresh.estate, fresh.estate.at)
    for each in questions:
        assert told(shared, *each) == told(alone, *each)
