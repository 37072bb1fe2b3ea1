"""The house: who may import whom, and what each command loads."""

import ast
import subprocess
import sys

import pytest

from tests.architecture.house import HOLDS, MAY_IMPORT, PURE
from tests.conftest import STORIES

SOURCE = STORIES.parent
OUTSIDE = {"os", "pathlib", "time", "random", "subprocess", "socket", "io", "shutil", "sys", "secrets"}


def imports(path):
    """Every module that a file imports, anywhere in it."""
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        if isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)
        elif isinstance(node, ast.ImportFrom) and node.module:
            yield node.module


@pytest.mark.parametrize("room", sorted(MAY_IMPORT))
def test_a_room_imports_only_what_is_below(room):
    """The table of the house."""
    wrong = []
    for path in (SOURCE / room).rglob("*.py"):
        for module in imports(path):
            if module.startswith("portolan."):
                _, other, *rest = module.split(".")
                whole = ".".join((other, *rest[:1]))
                if other not in (room, "version") and not {other, whole} & set(MAY_IMPORT[room]):
                    wrong.append(f"{path.name} imports {module}")
    assert wrong == []


def test_every_room_stands_in_the_table():
    """And nothing else does."""
    rooms = {path.name for path in SOURCE.iterdir() if (path / "__init__.py").exists()}
    assert rooms == {*MAY_IMPORT, "cli"} == set(HOLDS)


def test_rehearsals_use_nothing_of_the_engines():
    """What a driver needs to know it works out by itself: of the engines it sees results, and those only as types."""
    shared = {
        "portolan.estate.guesses",
        "portolan.dns",
        "portolan.net",
        "portolan.tls",
        "portolan.http",
        "portolan.diagnosis",
    }
    for path in (SOURCE / "rehearsal").rglob("*.py"):
        tree = ast.parse(path.read_text("utf-8"))
        types = {id(inner) for node in ast.walk(tree) if isinstance(node, ast.If) and ast.unparse(node.test) == "TYPE_CHECKING"
                 for inner in ast.walk(node)}  # fmt: skip
        for node in ast.walk(tree):
            names = (
                [node.module or ""]
                if isinstance(node, ast.ImportFrom)
                else [each.name for each in getattr(node, "names", [])]
                if isinstance(node, ast.Import)
                else []
            )
            for name in names:
                assert not any(name == each or name.startswith(each + ".") for each in shared), (path.name, name)
                assert not name.startswith("portolan.journey") or id(node) in types, (path.name, name)
    code = "import sys, portolan.rehearsal.run; print([name for name in sys.modules if name.startswith('portolan.')])"
    loaded = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout
    assert "portolan.rehearsal.naming" in loaded
    assert not any(f"portolan.{room}." in loaded for room in ("dns", "net", "tls", "http", "journey", "diagnosis"))


@pytest.mark.parametrize("room", PURE)
def test_engines_touch_nothing_outside(room):
    """No clock, no network, no files, no printing in the core."""
    for path in (SOURCE / room).rglob("*.py"):
        assert not {module.split(".")[0] for module in imports(path)} & OUTSIDE, path
        text = path.read_text("utf-8")
        assert "print(" not in text.replace("fingerprint(", ""), path
        assert "datetime.now" not in text, path
        assert " open(" not in text, path


@pytest.mark.parametrize("path", sorted(SOURCE.rglob("*.py")), ids=lambda path: path.name)
def test_files_stay_small_and_say_what_they_are(path):
    """At most 600 lines, and a docstring first."""
    text = path.read_text("utf-8")
    assert text.count("\n") <= 600
    assert ast.get_docstring(ast.parse(text))


@pytest.mark.parametrize(
    ("arguments", "absent"),
    [
        (["--version"], ["yaml", "msgspec", "cryptography", "dns", "json", "portolan.estate"]),
        (
            [
                "follow",
                "https://visit.kestrel-ridge.example/",
                "-e",
                str(STORIES / "half-open"),
                "--with",
                str(STORIES / "mend.yaml"),
            ],
            ["cryptography", "dns", "json", "jsonschema", "idna", "shtab", "portolan.diagnosis"],
        ),
        (["check", "-e", str(STORIES / "half-open")], ["cryptography", "dns", "json", "portolan.rehearsal"]),
    ],
)
def test_a_command_loads_no_more_than_it_needs(arguments, absent, tmp_path):
    """A fresh process each; heavy libraries only where they are used."""
    mend = tmp_path / "mend.yaml"
    mend.write_text(
        "routers: {gateway: {forwards: [{on: line, tcp: 443, to: 10.20.0.15}]}}\n"
        "certificates: {dome: {names: [visit.kestrel-ridge.example]}}\n"
    )
    arguments = [str(mend) if each.endswith("mend.yaml") else each for each in arguments]
    code = f"import sys; from portolan.cli.main import main\ntry: main({arguments!r})\nexcept SystemExit: pass\nprint('\\n'.join(sys.modules), file=sys.stderr)"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    held = set(done.stderr.split("\n"))
    assert "portolan.cli.main" in held
    assert [name for name in absent if name in held] == []
