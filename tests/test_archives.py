"""Both archives: what lies in them, and that the same sources make the same bytes, whoever builds them, when and where."""

import hashlib
import os
import shutil
import subprocess
import sys
import tarfile
import zipfile
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent
_PARTS = ("src", "docs", "tests", "scripts", "conformance", "fuzz", "bench", ".ci")
_PASSED_OVER = shutil.ignore_patterns("__pycache__", "*.egg-info", "finds", ".hypothesis")


def built(folder, umask, moment):
    """Both archives of a fresh copy of the sources, which all have a moment as their time."""
    for each in ROOT.iterdir():
        if each.is_file() and each.suffix in (".md", ".toml", ".in", "") and each.name[0] != ".":
            shutil.copy(each, folder)
        elif each.name in _PARTS:
            shutil.copytree(each, folder / each.name, ignore=_PASSED_OVER)
    for each in folder.rglob("*"):
        os.utime(each, (moment, moment))
        each.chmod(each.stat().st_mode & ~umask | (0o220 & ~umask))
    code = "import sys; sys.path.insert(0, 'scripts'); import build_backend as b; b.build_sdist('out'); b.build_wheel('out')"
    environment = {key: value for key, value in os.environ.items() if key != "SOURCE_DATE_EPOCH"}
    done = subprocess.run(
        [sys.executable, "-c", f"import os; os.umask({umask}); os.mkdir('out'); {code}"],
        cwd=folder, env=environment, capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    return sorted((folder / "out").iterdir())


def test_the_same_sources_make_the_same_bytes(tmp_path):
    """From two folders, of two times, with two masks; the source archive holds all that a packager needs."""
    pytest.importorskip("setuptools", "77")
    if not (ROOT / "MANIFEST.in").exists():
        pytest.skip("the tests run without the sources' own folder")
    archives = []
    for number, (umask, moment) in enumerate(((0o022, 1_600_000_000), (0o002, 1_700_000_000))):
        folder = tmp_path / f"copy{number}"
        folder.mkdir()
        archives.append(built(folder, umask, moment))
    sums = [{each.name: hashlib.sha256(each.read_bytes()).hexdigest() for each in found} for found in archives]
    assert sums[0] == sums[1]
    assert len(sums[0]) == 2
    wheel, source = sorted(archives[0], key=lambda each: each.suffix == ".gz")
    with tarfile.open(source) as held:
        names = {name.partition("/")[2] for name in held.getnames()}
        assert {each.mtime for each in held.getmembers()} == {1_767_225_600}
        assert {each.uid for each in held.getmembers()} == {0}
    for wanted in (
        "SECURITY.md",
        "CHANGELOG.md",
        "LICENSE",
        "docs/guide.md",
        "tests/conftest.py",
        "conformance/run.py",
        ".ci/run",
    ):
        assert wanted in names
    assert not [name for name in names if "__pycache__" in name]
    with zipfile.ZipFile(wheel) as held:
        assert {each.date_time for each in held.infolist()} == {(2026, 1, 1, 0, 0, 0)}
        assert any(name.endswith("portolan/stories/first-light/estate.yaml") for name in held.namelist())
        assert not [name for name in held.namelist() if name.startswith(("tests", "conformance"))]
