"""Takes the pictures of docs/screenshots/: each command in a real terminal window on a virtual screen, pictures and pages in a browser.

Needs Debian's xvfb, xterm, imagemagick, chromium and fonts-dejavu-core, and the program installed in .venv.
"""

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
OUT = ROOT / "docs" / "screenshots"
PROGRAM = Path(sys.executable).parent / "portolan"
URL = "https://visit.kestrel-ridge.example/"
#: name: (the command as shown, columns, rows)
PICTURES = {
    "demo": ("portolan demo two-signs | head -58", 100, 58),
    "follow": (f"portolan follow {URL} --from street -e inside-only", 100, 18),
    "explain": (f"portolan explain {URL} --from street -e half-open", 100, 36),
    "rehearse": ("portolan rehearse -e half-open", 100, 18),
    "survey": ("portolan survey -e closed-desk; portolan survey -e two-signs", 110, 34),
    "compare": ("portolan compare inside-only half-open", 100, 32),
    "exposed": ("portolan exposed orion -e first-light", 100, 28),
    "seen": ("portolan demo shut-door", 100, 56),
    "by-hand": (f"portolan follow {URL} --from street -e first-light --by-hand", 100, 52),
    "fault": ("portolan fault forward-missing", 100, 57),
    "probe": (f"portolan probe {URL} --from street -e first-light --dry-run", 100, 14),
    "long-tunnel": (
        "portolan explain http://visit.kestrel-ridge.example/dome.html -e long-tunnel",
        100,
        40,
    ),
    "zoom-connect": (
        "portolan follow https://bookings.kestrel-ridge.example/ -e one-way-street --zoom connect | head -22",
        100,
        26,
    ),
    "check": ("portolan check -e half-open", 100, 14),
    "renewals": ("portolan check --renewals -e last-bell; echo; portolan check -e last-bell", 100, 24),
    "transcribe": (
        "portolan explain http://desk.kestrel-ridge.example/ -e fresh-ink --from near:eth0",
        100,
        38,
    ),
    "ladder": (
        "portolan follow https://bookings.kestrel-ridge.example/ --from street --ladder -e night-shift",
        100,
        44,
    ),
}
#: name: (what makes the file, in which form, and how high the window is)
PAGES = {
    "way": (("draw", "https://bookings.kestrel-ridge.example/", "--from", "street", "-e", "night-shift"), "svg", 800),
    "estate": (("draw", "-e", "first-light"), "svg", 960),
    "report": (("report", "-e", "inside-only"), "html", 1300),
}


def main() -> None:
    """Takes every picture, or those named."""
    OUT.mkdir(parents=True, exist_ok=True)
    screen = subprocess.Popen(["Xvfb", ":77", "-screen", "0", "1280x1100x24"], stderr=subprocess.DEVNULL)
    try:
        time.sleep(1.5)
        for name, (command, columns, rows) in PICTURES.items():
            if len(sys.argv) < 2 or name in sys.argv[1:]:
                picture(name, command, columns, rows)
    finally:
        screen.terminate()
        screen.wait()
    for name, (arguments, form, height) in PAGES.items():
        if len(sys.argv) < 2 or name in sys.argv[1:]:
            page(name, arguments, form, height)


def page(name: str, arguments: tuple[str, ...], form: str, height: int) -> None:
    """Makes one file and takes it in a browser without a window."""
    with tempfile.TemporaryDirectory() as folder:
        made = Path(folder) / f"made.{form}"
        subprocess.run([PROGRAM, *arguments, "-o", str(made)], cwd=ROOT / "src" / "portolan" / "stories", check=False)
        subprocess.run(
            ["chromium", "--headless", "--no-sandbox", "--disable-gpu", "--hide-scrollbars", f"--window-size=1280,{height}",
             f"--screenshot={OUT / name}.png", f"file://{made}"],
            check=True, stderr=subprocess.DEVNULL,
        )  # fmt: skip


def picture(name: str, command: str, columns: int, rows: int) -> None:
    """Runs one command in a window of its own and takes the window."""
    with tempfile.TemporaryDirectory() as folder:
        done = Path(folder) / "done"
        forced = command.replace("portolan ", f"{PROGRAM} ").replace(" | ", " --color always | ")
        script = Path(folder) / "show.sh"
        script.write_text(
            f"cd {ROOT}/src/portolan/stories\nprintf '\\033[1m$ %s\\033[0m\\n\\n' '{command}'\nCOLUMNS={columns} {forced}\ntouch {done}\nsleep 20\n"
        )
        window = subprocess.Popen(
            [
                "xterm",
                "-fa",
                "DejaVu Sans Mono",
                "-fs",
                "11",
                "-geometry",
                f"{columns}x{rows}+0+0",
                "-bg",
                "#10151c",
                "-fg",
                "#d8dee6",
                "-title",
                name,
                "-bc",
                "-cr",
                "#10151c",
                "-e",
                "bash",
                str(script),
            ],
            env={**os.environ, "DISPLAY": ":77", "LANG": "C.UTF-8", "LC_ALL": "C.UTF-8"},
            stderr=subprocess.DEVNULL,
        )
        try:
            for _ in range(100):
                if done.exists():
                    break
                time.sleep(0.1)
            time.sleep(0.7)
            subprocess.run(["import", "-display", ":77", "-window", name, str(OUT / f"{name}.png")], check=True)
        finally:
            window.terminate()
            window.wait()
    print(f"took {name}")


if __name__ == "__main__":
    main()
