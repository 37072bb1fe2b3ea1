"""What each command loads: a small answer is not to wait for rooms and libraries that it does not need."""

import json
import shutil
import subprocess
import sys

import pytest

from tests.conftest import OFFICE, STORIES

#: Of the views only the table of forms, which help asks for its choices.
ALWAYS = {"cli", "source", "version", "views"}
ASKING = ALWAYS | {
    "estate",
    "formats",
    "journey",
    "dns",
    "evidence",
    "programs",
    "http",
    "net",
    "tls",
    "views",
}
LIBRARIES = (
    "dns",
    "cryptography",
    "idna",
    "re2",
    "yaml",
    "msgspec",
    "jsonschema",
    "shtab",
    "jinja2",
    "watchfiles",
    "wcwidth",
    "distributed",
    "multiprocessing",
)
PLAIN = "http://visit.kestrel-ridge.example/"

#: A command line, the rooms that it loads, and the libraries.
LOADS = {
    "--version": (ALWAYS, set()), "--help": (ALWAYS, set()), "fault cert-name": (None, {"msgspec", "yaml"}), "schema estate": (None, {"msgspec", "yaml"}),
    f"follow {PLAIN} --from street": (ASKING, {"yaml", "msgspec"}), f"follow {PLAIN} --from street --format json": (ASKING, {"yaml", "msgspec"}),
    f"explain {PLAIN} --from street": (ASKING | {"diagnosis", "edge", "store"}, {"yaml", "msgspec"}), "check": (ASKING | {"diagnosis", "edge", "store"}, {"yaml", "msgspec"}),
    "survey": (ASKING | {"diagnosis", "edge", "store", "surveying"}, {"yaml", "msgspec"}), "exposed": (None, {"yaml", "msgspec"}),
    "report": (None, {"yaml", "msgspec", "jinja2"}), "draw": (None, {"yaml", "msgspec"}), "compare . .": (None, {"yaml", "msgspec"}),
}  # fmt: skip
CODE = """
import contextlib, io, json, sys
sys.argv = ["portolan", *sys.argv[1:]]
from portolan.cli.main import main
with contextlib.redirect_stdout(io.StringIO()), contextlib.suppress(SystemExit):
    main()
print(json.dumps(sorted(sys.modules)))
"""


def loaded_by(arguments, folder):
    """The modules that a command line loads, in a process of its own."""
    done = subprocess.run(
        [sys.executable, "-c", CODE, *arguments], cwd=folder, capture_output=True, text=True, check=True
    )
    return json.loads(done.stdout)


def rooms(modules):
    """The rooms of ours among modules."""
    return {name.split(".")[1] for name in modules if name.startswith("portolan.")} - {"__main__", "public"}


@pytest.mark.parametrize("line", LOADS)
def test_a_command_loads_what_it_needs(tmp_path, line):
    """An estate whose certificates are stated, and whose zone has the usual records: no library but two."""
    (tmp_path / "estate.yaml").write_text(OFFICE)
    wanted, libraries = LOADS[line]
    modules = loaded_by(line.split(), tmp_path)
    if wanted is not None:
        assert rooms(modules) == wanted
    if wanted == ALWAYS:
        assert {name for name in modules if name.startswith("portolan.views.")} == {"portolan.views.formats"}
    assert set(LIBRARIES) & set(modules) <= libraries
    assert not rooms(modules) & {"rehearsal", "transcribing"} or line == "--help"


@pytest.mark.parametrize(
    ("url", "met"), [("http://nowhere.kestrel-ridge.example/", False), ("https://visit.kestrel-ridge.example/", True)]
)
def test_certificates_are_bytes_until_a_handshake_looks(tmp_path, url, met):
    """A file of an estate's is read and kept; only who meets it waits for the library."""
    shutil.copytree(STORIES / "first-light", tmp_path / "e")
    modules = loaded_by(["follow", url, "-e", "e", "--from", "office"], tmp_path)
    assert ("cryptography" in modules) == met
    assert "dns" not in modules
