"""Listings of folders as programs print them, parts of pages, and what makes no sense in a site."""

import subprocess

import pytest

from portolan.formats.inventories.registry import inventory
from portolan.formats.page_parts import parts_of
from tests.conftest import OFFICE, problems, swap

SITE = "            files: [index.html, tonight.html, img/dome.jpg]\n"


@pytest.mark.parametrize(
    "command",
    [
        ["ls", "-lR", "F"],
        ["ls", "-laR", "F"],
        ["find", "F", "-ls"],
        ["find", "F", "-printf", "%M %u %g %p\\n"],
        ["find", "F", "-exec", "stat", "-c", "%A %U %G %n", "{}", ";"],
        ["sh", "-c", "tar -C F -cf - . | tar -tv"],
    ],
)
def test_listings_are_read_as_they_come(tmp_path, command):
    """The same folder, listed by each program, is the same folder."""
    folder = tmp_path / "visit"
    (folder / "img").mkdir(parents=True)
    (folder / "index.html").write_text("x", "utf-8")
    (folder / "img" / "dome two.jpg").write_text("x", "utf-8")
    (folder / "img").chmod(0o750)
    (folder / "index.html").chmod(0o640)
    said = [each.replace("F", str(folder)) if each in ("F",) or " F " in each else each for each in command]
    text = subprocess.run(
        said, capture_output=True, text=True, check=True, env={"LC_ALL": "C", "PATH": "/usr/bin:/bin"}
    )
    found = inventory(text.stdout, str(folder))
    assert set(found.files) == {"index.html", "img/", "img/dome two.jpg"}
    assert found.rights["index.html"].mode == 0o640
    assert found.rights["img"].mode == 0o750
    assert found.other == ()


def test_what_is_no_listing_is_said():
    """One error, for users."""
    with pytest.raises(ValueError, match="no listing known here"):
        inventory("hello\nworld\n", None)
    with pytest.raises(ValueError, match="cannot be shown"):
        inventory("-rw-r--r-- root root ./a\x1bb\n", None)


def test_parts_of_a_page():
    """What browsers fetch by themselves; links to other pages are none."""
    text = '<a href="x.html"><img src="a.jpg"><link rel=stylesheet href="s.css"><link rel=author href="me"><script src="http://x.example/y.js"></script>'
    assert [reference for reference, _, _ in parts_of(text)] == ["a.jpg", "s.css", "http://x.example/y.js"]


@pytest.mark.parametrize(
    ("facts", "expected"),
    [
        ("upstream: http://10.20.0.16\nanswer: 404", "'answer' and 'upstream' both say what the site gives"),
        ("sections: [{path: /a, answer: 404, files: [x]}]", "'files' and 'answer' both say what the section gives"),
        ("sections: [{answer: 404}]", "a section has exactly one of 'path', 'exact' and 'pattern'"),
        ("sections: [{path: a}]", "expected a path such as /app/, found 'a'"),
        ("sections: [{pattern: '(', answer: 404}]", "missing ): ("),
        ("sections: [{pattern: '(?=x)', answer: 404}]", "looking around"),
        (r"sections: [{pattern: '(a)\1', answer: 404}]", "invalid escape sequence"),
        ("rights: {x: 0640}", "expected mode, owner and group"),
        ("rights: {x: '9999 a:b'}", "expected mode, owner and group such as '0640 orion:www-data'"),
        ("rights: {../x: '0644 a:b'}", "Without '..'."),
        ("links: {/x: y}", "'/x' is not relative to the folder"),
        ("error_pages: {200: /x}", "a status of an error, 400 to 599"),
        ("error_pages: {404: x.html}", "expected a path of the site or a URL for 404"),
        ("fallback: ../x", "expected a file of the site's folder"),
        ("redirects: [{to: '/{1}'}]", "{1} to {9} need a 'when' with a 'pattern'"),
        ("upstream: {to: [http://10.20.0.16, https://10.20.0.17]}", "the members of a pool have one scheme"),
        ("upstream: {to: http://10.20.0.16, verifies: true}", "'verifies' is for encrypted upstreams"),
        ("upstream: {host: kept}", "an upstream needs 'to'"),
        ("default: true\ndefault_on: [80]", "'default' and 'default_on' both say where it is the default"),
        ("parts: check", "'parts' looks at the pages of a 'copy'"),
        ("methods: [BREW]", "expected one of GET, HEAD"),
    ],
)  # fmt: skip
def test_what_makes_no_sense_is_one_error_at_its_line(facts, expected):
    """With what was expected."""
    lines = "".join(f"            {line}\n" for line in facts.split("\n"))
    found = problems(swap(OFFICE, (SITE, lines)))
    assert any(expected in each for each in found), found
    assert all("estate.yaml:" in each for each in found)
