"""Changes written into an estate's own files: comments and layout stay, and the files say what the change says."""

import json

import pytest
import yaml

from portolan.estate.slips import known
from portolan.formats.change import apply, patch_operations
from portolan.formats.estate_file import load, patched
from portolan.formats.files import MemoryFiles
from portolan.formats.rewriting import CannotWriteError, flow, rewritten
from portolan.formats.written_into import written_into
from portolan.formats.yaml_nodes import compose, plain_data
from portolan.observing.ways import ways
from portolan.source.difference import difference
from portolan.source.problem import EstateError
from tests.conftest import OFFICE

BLOCK = """\
# The first line stays.
portolan: 1   # as all
hosts:
  # above orion
  orion:
    # above the interfaces
    interfaces:
      dome:
        address: 10.20.0.15   # fixed
    services:
      web:
        listens:
          - 80
          # the secure one
          - 443 tls
        sites: {visit: {names: [visit.example], files: ["index.html", 'naïve.html']}}
zones:
  kestrel-ridge.example:
    records:
      - visit 3600 A 203.0.113.40   # the line
      - "other 3600 A 203.0.113.41"
    delegated_to:
"""

#: A change, what stands in the text after it, and what does not.
EDITS = [
    ([{"op": "replace", "path": "/hosts/orion/interfaces/dome/address", "value": "10.20.0.16"}], "address: 10.20.0.16   # fixed", "10.20.0.15"),
    ([{"op": "add", "path": "/hosts/orion/services/web/listens/-", "value": "8080"}], '          - 443 tls\n          - "8080"\n', ""),
    ([{"op": "add", "path": "/hosts/orion/services/web/listens/1", "value": 81}], "          - 80\n          - 81\n          # the secure one\n", ""),
    ([{"op": "remove", "path": "/hosts/orion/services/web/listens/0"}], "        listens:\n          # the secure one\n", "- 80"),
    ([{"op": "add", "path": "/hosts/orion/gateway", "value": "10.20.0.1"}], "    gateway: 10.20.0.1\nzones:", ""),
    ([{"op": "add", "path": "/hosts/orion/services/web/sites/visit/certificate", "value": "visit"}], "'naïve.html'], certificate: visit}}", ""),
    ([{"op": "remove", "path": "/hosts/orion/services/web/sites/visit/files/0"}], "files: ['naïve.html']", "index.html"),
    ([{"op": "remove", "path": "/hosts/orion/interfaces/dome/address"}], "      dome: {}\n", "10.20.0.15"),
    ([{"op": "add", "path": "/zones/kestrel-ridge.example/delegated_to", "value": ["ns.example"]}], "    delegated_to: [ns.example]\n", ""),
    ([{"op": "replace", "path": "/hosts/orion/services/web/listens", "value": ["80"]}], '        listens: ["80"]\n        sites', "443"),
    ([{"op": "move", "from": "/hosts/orion/services/web/listens/0", "path": "/hosts/orion/services/web/listens/1"}], "          # the secure one\n          - 443 tls\n          - 80\n", ""),
    ([{"op": "copy", "from": "/hosts/orion/interfaces/dome", "path": "/hosts/orion/interfaces/rack"}], "      rack: {address: 10.20.0.15}\n    services", ""),
    ([{"op": "replace", "path": "/zones/kestrel-ridge.example/records/1", "value": "@ 60 A 10.0.0.1"}], '      - "@ 60 A 10.0.0.1"\n', "203.0.113.41"),
]  # fmt: skip


@pytest.mark.parametrize(("patch", "stands", "gone"), EDITS)
@pytest.mark.parametrize("ends", ["\n", ""])
def test_only_what_changes_is_touched(patch, stands, gone, ends):
    """Every comment stays, and the text says what the change says."""
    text = BLOCK.rstrip("\n") + ends
    after = rewritten({"estate.yaml": text}, patch)["estate.yaml"]
    assert stands in f"{after}\n"
    assert not gone or gone not in after
    comments = [line.partition("#")[2] for line in BLOCK.split("\n") if "#" in line]
    assert [line.partition("#")[2] for line in after.split("\n") if "#" in line].sort() == comments.sort()
    wanted = apply(compose("estate.yaml", text.encode()), patch_operations(patch))
    assert plain_data(compose("estate.yaml", after.encode())) == plain_data(wanted)


@pytest.mark.parametrize(
    "patch",
    [
        [{"op": "remove", "path": "/hosts/vega"}],
        [{"op": "add", "path": "/hosts/vega/gateway", "value": "10.20.0.1"}],
        [{"op": "add", "path": "/hosts/orion/services/web/listens/9", "value": "1"}],
    ],
)
def test_what_cannot_be_written_is_refused(patch):
    """With a reason, and nothing is changed."""
    with pytest.raises(CannotWriteError):
        rewritten({"estate.yaml": BLOCK}, patch)


@pytest.mark.parametrize(
    "value", ["443 tls", "true", "10", "1e3", "a: b", "#x", "- x", "", "é", "{host}", None, True, 7, "@", "*.x", "~"]
)
@pytest.mark.parametrize("as_json", [True, False])
def test_values_are_read_as_they_were_meant(value, as_json):
    """Whatever a text looks like, it stays a text."""
    assert plain_data(compose("x.yaml", f"a: [{flow(value, as_json)}]\n".encode()))["a"] == [value]


def layouts(text):
    """The same estate in the layouts that people and programs write."""
    data = plain_data(compose("estate.yaml", text.encode()))
    yield text
    yield yaml.safe_dump(data, sort_keys=False, default_flow_style=False)
    yield yaml.safe_dump(data, sort_keys=False, default_flow_style=False, indent=4).replace("\n", "\r\n")
    yield json.dumps(data, indent=2)
    yield json.dumps(data)


@pytest.mark.parametrize("layout", range(5))
def test_every_small_change_in_every_layout(layout):
    """Of each way in which a fact may be otherwise, written into the file: it says the same as the change."""
    text = list(layouts(OFFICE.lstrip("\n")))[layout]
    held = load(MemoryFiles({"estate.yaml": text}), "estate.yaml")
    near = frozenset(
        (section, name)
        for section in ("routers", "hosts", "zones", "vantages")
        for name in getattr(held.estate, section)
    )
    count = 0
    for way in ways(held.estate, known(held.root), near, frozenset(), held.estate.at):
        try:
            wanted = patched(held, way.patch)
        except EstateError:
            continue
        (file,) = written_into(held, way.patch) or (None,)
        if file is None:
            continue
        again = load(MemoryFiles({"estate.yaml": file.after}), "estate.yaml")
        assert plain_data(again.root) == plain_data(wanted.root)
        count += 1
    assert count > 60


def test_records_of_master_files_are_changed_where_they_stand():
    """And the serial number grows; what cannot be written there stands in the estate."""
    zone = "$ORIGIN kestrel-ridge.example.\n@ 3600 SOA ns hostmaster (\n  2026031401 ; serial\n  3600 600 86400 300 )\n@ NS ns\nns A 192.0.2.53\nvisit A 203.0.113.40 ; the line\n"  # fmt: skip
    main = "portolan: 1\nzones:\n  kestrel-ridge.example:\n    file: zone\n"
    held = load(MemoryFiles({"estate.yaml": main, "zone": zone}), "estate.yaml")
    patch = [
        {"op": "add", "path": "/zones/kestrel-ridge.example/without", "value": ["visit A 203.0.113.40"]},
        {"op": "add", "path": "/zones/kestrel-ridge.example/records", "value": ["visit 3600 A 203.0.113.41"]},
    ]
    (file,) = written_into(held, patch)
    assert file.path == "zone"
    assert "visit A 203.0.113.41 ; the line\n" in file.after
    assert "2026031402 ; serial" in file.after
    assert difference("zone", file.before, file.after).count("\n+") == 3


def test_files_that_are_included_are_written_into():
    """Each change stands in the file that says the thing."""
    main = "portolan: 1\ninclude: [hosts.yaml]\nnetworks: {dome: {subnets: [10.20.0.0/24]}}\n"
    hosts = "hosts:\n  orion: {interfaces: {dome: {address: 10.20.0.15}}}\n"
    held = load(MemoryFiles({"estate.yaml": main, "hosts.yaml": hosts}), "estate.yaml")
    (file,) = written_into(held, [{"op": "add", "path": "/hosts/orion/gateway", "value": "10.20.0.1"}])
    assert (file.path, file.after.count("gateway: 10.20.0.1")) == ("hosts.yaml", 1)


def test_a_difference_without_a_last_line_break():
    """As `patch` takes it."""
    assert difference("x", "a", "b") == "--- a/x\n+++ b/x\n@@ -1 +1 @@\n-a\n\\ No newline at end of file\n+b\n\\ No newline at end of file\n"  # fmt: skip
