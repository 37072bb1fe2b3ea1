"""Takes the pictures of docs/screenshots/: each command in a real terminal window on a virtual screen.

Needs Debian's xvfb, xterm, imagemagick and fonts-dejavu-core, and the program installed in .venv.
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
    "zoom-name": ("portolan follow http://www.kestrel-ridge.example/ -e old-ledger --zoom name | head -16", 100, 20),
    "zoom-connect": (
        "portolan follow https://bookings.kestrel-ridge.example/ -e one-way-street --zoom connect | head -22",
        100,
        26,
    ),
    "after-reboot": (
        "portolan explain https://bookings.kestrel-ridge.example/ -e one-way-street --from rack --after-reboot",
        100,
        24,
    ),
    "upstream": ("portolan explain https://bookings.kestrel-ridge.example/ -e night-shift", 100, 47),
    "socket": ("portolan explain wss://live.kestrel-ridge.example/stream/dome -e dark-window", 100, 34),
    "replies": (f"portolan explain {URL} --from street -e first-word", 100, 31),
    "folder": (f"portolan explain {URL} -e lost-shelf | tail -50", 100, 53),
    "endless": ("portolan explain https://bookings.kestrel-ridge.example/ -e revolving-door", 100, 50),
    "edge": ("portolan follow https://images.kestrel-ridge.example/domes/ -e open-gallery", 100, 32),
    "gallery": ("portolan explain https://images.kestrel-ridge.example/ -e three-locks | tail -46", 100, 49),
    "chapter": ("portolan explain https://diary.kestrel-ridge.example/chapter/7 -e closed-chapter", 100, 40),
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
