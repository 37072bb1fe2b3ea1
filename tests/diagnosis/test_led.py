"""Folders that the name asked for leads to: what is wrong with one, and what would take theirs from all others."""

import portolan

#: Two huts, and one that is asked for under a name that is nearly one of theirs.
HUTS = """\
portolan: 1
at: 2026-03-14T20:00:00Z
hosts:
  orion:
    interfaces: {line: {network: internet, address: 203.0.113.40}}
    folders: {/srv/huts/kite: {files: [index.html]}, /srv/huts/heron: {files: [index.html]}}
    services:
      web:
        program: nginx
        listens: [80]
        sites: {huts: {name_patterns: ["^([a-z]+)[.]huts[.]ridge[.]example$"], folder: "/srv/huts/{1}"}}
zones: {ridge.example: {records: ["*.huts 60 A 203.0.113.40"]}}
vantages: {street: {network: internet, address: 198.51.100.10}}
expected: [{url: "http://herron.huts.ridge.example/", page: huts}, {url: "http://kite.huts.ridge.example/", page: huts}]
"""


def test_no_other_folder_stands_in_its_place(tmp_path):
    """A folder for one name would take theirs from all others: it is advice, and no change is proven."""
    (tmp_path / "estate.yaml").write_text(HUTS, "utf-8")
    found = portolan.load(str(tmp_path)).explain("http://herron.huts.ridge.example/", "street")
    (cause,) = found.causes
    assert cause.text == "the folder of huts, /srv/huts/herron, does not exist; /srv/huts/heron does"
    assert [(each.text, list(each.patch)) for each in found.remedies] == [("put the content into /srv/huts/herron", [])]


def test_what_lies_there_is_no_folder_missing(tmp_path):
    """`check` asks for each name, and says nothing of those whose folder is there."""
    (tmp_path / "estate.yaml").write_text(HUTS.replace("herron", "heron"), "utf-8")
    found = portolan.load(str(tmp_path)).check()
    assert (found.asked, found.groups) == (2, ())
