"""The loader raises nothing but its own error, on random and on mutated input."""

from hypothesis import given
from hypothesis import strategies as st

from portolan.formats.change import operations
from portolan.formats.estate_file import changed, load
from portolan.formats.files import MemoryFiles
from portolan.formats.yaml_nodes import compose
from portolan.formats.zone_file import read_zone
from portolan.source.place import Span
from portolan.source.problem import EstateError, Problems
from tests.conftest import OFFICE, STORIES

FIRST_LIGHT = {
    str(path.relative_to(STORIES / "first-light")): path.read_bytes()
    for path in (STORIES / "first-light").rglob("*")
    if path.is_file()
}
WORDS = st.sampled_from(
    [
        "",
        "null",
        "[]",
        "{}",
        "~",
        "yes",
        "10.20.0.15",
        "::",
        "-1",
        "99999",
        "*",
        "a/b",
        "\u202e",
        "443 tls",
        "none",
        "[[a]]",
        "x: y",
        "'",
        "!!str x",
    ]
)


def outcome(files: dict[str, bytes | str], main: str = "estate.yaml") -> str:
    """Loads; the only two ends allowed."""
    try:
        load(MemoryFiles(files), main)
    except EstateError as error:
        assert error.problems
        assert all(
            problem.span.line >= 1 and problem.span.column >= 1 and problem.message for problem in error.problems
        )
        return "refused"
    return "loaded"


@given(st.binary(max_size=200))
def test_random_bytes(data):
    """Anything at all."""
    assert outcome({"estate.yaml": data}) == "refused"


@given(st.recursive(st.one_of(st.none(), st.booleans(), st.integers(), st.text(max_size=8)), lambda inner: st.one_of(
    st.lists(inner, max_size=3), st.dictionaries(st.sampled_from(["hosts", "zones", "portolan", "networks", "routers", "filter", "services", "a"]), inner, max_size=4))))  # fmt: skip
def test_random_structures(value):
    """Well-formed YAML of the wrong shape."""
    import json

    assert outcome({"estate.yaml": json.dumps({"portolan": 1, "hosts": {"h": value}, "zones": value})}) in (
        "refused",
        "loaded",
    )


@given(st.data())
def test_mutated_lines(data):
    """A real estate with a line cut, doubled, moved or with a word replaced."""
    name = data.draw(st.sampled_from([each for each in FIRST_LIGHT if each.endswith((".yaml", ".zone", ".pem"))]))
    lines = FIRST_LIGHT[name].decode().split("\n")
    for _ in range(data.draw(st.integers(1, 3))):
        at = data.draw(st.integers(0, len(lines) - 1))
        action = data.draw(st.sampled_from(["cut", "double", "indent", "word", "tail"]))
        if action == "cut":
            lines[at] = ""
        elif action == "double":
            lines.insert(at, lines[at])
        elif action == "indent":
            lines[at] = " " * data.draw(st.integers(1, 5)) + lines[at]
        elif action == "word":
            head, colon, _ = lines[at].partition(": ")
            lines[at] = head + (colon or " ") + data.draw(WORDS)
        else:
            lines[at] = lines[at][: data.draw(st.integers(0, len(lines[at])))]
    assert outcome({**FIRST_LIGHT, name: "\n".join(lines)}) in ("refused", "loaded")


@given(st.text(alphabet='abA@$ ;()"\\\n\t.0123456789IN*TLORGUC', max_size=120))
def test_random_zones(text):
    """Master files of noise."""
    problems = Problems()
    data = read_zone("z.example", ("z", Span("e", 1, 1)), [], [], problems, lambda _: text.encode(), str)
    assert data.nodes or problems.found


@given(st.one_of(st.binary(max_size=80), st.sampled_from(["/hosts/orion", "/expected/0", "/zones", "/nope/0", "", "/routers/gateway/forwards/-"]).flatmap(
    lambda path: st.tuples(st.sampled_from(["add", "remove", "replace", "test"]), WORDS).map(
        lambda part: f'[{{"op": "{part[0]}", "path": "{path}", "value": "{part[1]}"}}]'.encode()))))  # fmt: skip
def test_changes_of_noise(change):
    """A change file that makes no sense."""
    held = load(MemoryFiles({"estate.yaml": OFFICE}), "estate.yaml")
    try:
        after = changed(held, operations(compose("change", change), held.root))
        assert after.estate.portolan == 1
    except EstateError as error:
        assert error.problems
