"""What the documents show runs: the examples for programs, the pytest lines, the step for CI as a hook of a bare repository."""

import doctest
import os
import re
import shutil
import subprocess
import sys
from pathlib import Path

from tests.conftest import STORIES, swap

DOCS = Path(__file__).parent.parent.parent / "docs"


def test_the_examples_for_programs(monkeypatch):
    """Each of the ten."""
    monkeypatch.chdir(STORIES)
    text = (DOCS / "api.md").read_text("utf-8")
    examples = doctest.DocTestParser().get_doctest(text, {}, "api.md", None, 0)
    assert len(examples.examples) > 20
    assert len(re.findall(r"^\d+\. ", text, re.MULTILINE)) == 10
    told = []
    failed, tried = doctest.DocTestRunner().run(examples, out=told.append)
    assert (failed, tried) == (0, len(examples.examples)), "".join(told)


def test_the_lines_of_pytest(tmp_path):
    """One test a question; the one that is missed fails with its cause."""
    (shown,) = [
        each
        for each in re.findall(r"```python\n(.*?)```", (DOCS / "api.md").read_text("utf-8"), re.DOTALL)
        if "parametrize" in each
    ]
    assert len(shown.strip().split("\n")) <= 10
    shutil.copytree(STORIES / "inside-only", tmp_path / "observatory")
    (tmp_path / "test_estate.py").write_text(shown, "utf-8")
    done = subprocess.run(
        [sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", "-p", "no:xdist", "test_estate.py"],
        cwd=tmp_path, capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert "1 failed, 2 passed" in done.stdout
    assert "orion's filter drops the packet" in done.stdout


def git(folder, *arguments, check=True):
    who = ("-c", "user.name=Keeper", "-c", "user.email=keeper@kestrel-ridge.example", "-c", "init.defaultBranch=main")
    path = f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"
    return subprocess.run(
        ["git", *who, *arguments], cwd=folder, check=check, capture_output=True, text=True,
        env={**os.environ, "GIT_CONFIG_NOSYSTEM": "1", "HOME": str(folder), "PATH": path},
    )  # fmt: skip


def test_the_hook_refuses_what_opens_a_port(tmp_path):
    """A bare repository, a clone, three pushes: as it is, a harmless one, one that opens 8443 to everybody."""
    hook = next(
        each
        for each in re.findall(r"```sh\n(.*?)```", (DOCS / "at-a-glance.md").read_text("utf-8"), re.DOTALL)
        if "refs/heads/main" in each
    )
    bare, work = tmp_path / "bare.git", tmp_path / "work"
    git(tmp_path, "init", "-q", "--bare", "bare.git")
    (bare / "hooks" / "update").write_text(hook, "utf-8")
    (bare / "hooks" / "update").chmod(0o755)
    git(tmp_path, "clone", "-q", "bare.git", "work")
    shutil.copytree(STORIES / "first-light", work / "observatory")

    def pushed(message):
        git(work, "add", "-A")
        git(work, "commit", "-qm", message)
        return git(work, "push", "-q", "origin", "HEAD:main", check=False)

    estate = work / "observatory" / "estate.yaml"
    text = estate.read_text("utf-8")
    assert pushed("as it is").returncode == 0
    estate.write_text(f"# A remark.\n{text}", "utf-8")
    assert pushed("harmless").returncode == 0
    opened = swap(
        text,
        (
            "{on: line, tcp: 443, to: 10.20.0.15}",
            "{on: line, tcp: 443, to: 10.20.0.15}\n      - {on: line, tcp: 8443, to: 10.20.0.15, port: 443}",
        ),
    )
    estate.write_text(opened, "utf-8")
    refused = pushed("open")
    assert refused.returncode != 0
    assert "at 203.0.113.40 port 8443" in refused.stderr
