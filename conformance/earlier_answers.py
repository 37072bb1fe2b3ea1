"""Asks one revision for names, by the command line's own entry: the standard library and that revision only.

Usage: earlier_answers.py FILE; the file lists folders with names and vantages, the answer is a JSON list.
"""

import contextlib
import io
import json
import sys
from pathlib import Path

from portolan.cli.main import main


def answer(folder: str, name: str, vantage: str) -> list[object]:
    """Why a name has no address, or None, and its addresses."""
    out = io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(io.StringIO()):
        main(["follow", f"http://{name}/", "--from", vantage, "-e", folder, "--format", "json"])
    try:
        data = json.loads(out.getvalue())
    except ValueError:
        return ["refused", []]
    detail = data["outcome"]["detail"] if data["outcome"]["kind"] == "name-error" else None
    return [detail, sorted(data["exchanges"][0]["resolution"].get("addresses") or [])]


if __name__ == "__main__":
    tasks = json.loads(Path(sys.argv[1]).read_text("utf-8"))
    print(
        json.dumps(
            [
                [[answer(each["folder"], name, vantage) for vantage in each["vantages"]] for name in each["names"]]
                for each in tasks
            ]
        )
    )
