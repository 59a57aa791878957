"""Make the pictures in docs/screenshots again: real commands on the sample, in a terminal window.

    python docs/make_screenshots.py [NAME...]

Needs Xvfb, xterm, ImageMagick and Chromium (Debian: xvfb, xterm, imagemagick, chromium). Each command
runs in a window of its own on a virtual screen, and the window is taken.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

OUT = Path(__file__).parent / "screenshots"
DISPLAY = ":77"
#: picture → (folder, commands)
SHOTS = {
    "check": ("quillmere", ["oaktag check", "oaktag help OT203", "oaktag groups --unlike | tail -22"]),
    "explain": ("quillmere", ["oaktag explain 0200.5e10.0024", "oaktag find 8443/tcp"]),
    "members": ("quillmere", ["oaktag members --when 'site=ashgrove, model=SC-*|WD-*'", "oaktag members --when 'site=ashgrove, model=SC-*' --save tablets --before 7"]),
    "matrix": ("quillmere", ["oaktag matrix"]),
    "cell": ("quillmere", ["oaktag cell kiosks catalogue", "oaktag decide ivo loans-1 ssh"]),
    "review": ("quillmere", ["oaktag review"]),
    "describe": ("quillmere", ["oaktag describe kiosks | head -16", "oaktag callers tablets --real"]),
    "compare": ("quillmere", ["oaktag compare ../quillmere-mended/ ./ | head -44", "oaktag verify"]),
    "grant": ("quillmere", ["oaktag grant ada scans-1 ssh --until 2027-01-31", "oaktag grant bram loans-db ssh --only --until 2027-01-31 | tail -9", "oaktag set --where 'note=isolation*' --mode enforce | head -20"]),
    "expect": ("quillmere", ["oaktag expect", "oaktag expect --uncovered | tail -9", "oaktag expect --card | tail -22"]),
    "reach": ("quillmere", ["oaktag reach"]),
    "trace": ("quillmere", ["oaktag trace emil loans-1 loans-api --return | head -17", "oaktag trace 02:00:5e:10:00:24 catalogue-1 https | tail -9"]),
    "failures": ("quillmere", ["oaktag reach --failures 2>/dev/null", "oaktag reach --mend 2>/dev/null | head -12"]),
    "compile": ("quillmere", ["oaktag compile", "oaktag prove", "oaktag compile --point hall-edge --for kiosks catalogue"]),
    "lab": ("quillmere-mended", ["oaktag lab up 2>/dev/null", "oaktag lab break feed 'ashgrove-access>hall-edge'", "oaktag lab probe 2>/dev/null | head -18", "oaktag lab down"]),
    "bindings": ("quillmere", ["oaktag bindings --at hall-edge | head -20", "oaktag bindings --at hall-edge 10.20.2.103 10.20.12.41", "oaktag bindings 10.20.2.101 --taken-by kiosks"]),
}  # fmt: skip


#: picture → (folder, the command that draws it)
FIGURES = {
    "matrix-figure": ("quillmere", "oaktag matrix --figure"),
    "network-figure": ("quillmere", "oaktag reach --figure"),
}


#: picture → (folder, the command that writes a page)
PAGES = {"report": ("quillmere", "oaktag report --out")}
#: A browser whose window nobody sees.
BROWSER = (
    "chromium", "--headless=new", "--no-sandbox", "--disable-gpu", "--hide-scrollbars", "--no-first-run",
    "--disable-background-networking", "--window-size=1280,1390", "--virtual-time-budget=4000",
)  # fmt: skip


def take(name: str, folder: Path, commands: list[str]) -> None:
    """Run commands in a terminal window and take its picture."""
    done = folder / "done"
    done.unlink(missing_ok=True)
    lines = [f"printf '%s\\n' {_quoted('$ ' + c)}; {c}; echo" for c in commands]
    script = folder / "shot.sh"
    script.write_text(
        "\n".join(["clear", "printf '\\033[?25l'", *lines, f"touch {done}", "sleep 60"]) + "\n"
    )
    said = subprocess.run(
        ["sh", "-c", "; ".join(commands)], cwd=folder, capture_output=True, text=True
    )
    rows = min(said.stdout.count("\n") + 2 * len(commands) + 2, 66)  # as high as it takes
    window = subprocess.Popen(
        [
            "xterm", "-geometry", f"106x{rows}", "-fa", "DejaVu Sans Mono", "-fs", "11", "-bg", "#fbfaf7",
            "-fg", "#222222", "-T", name, "-e", "sh", str(script),
        ],
        cwd=folder, env={**os.environ, "DISPLAY": DISPLAY},
    )  # fmt: skip
    deadline = time.monotonic() + 30
    while not done.exists() and time.monotonic() < deadline:
        time.sleep(0.1)
    time.sleep(0.6)
    path = OUT / f"{name}.png"
    raw = folder / "raw.png"
    subprocess.run(["import", "-display", DISPLAY, "-window", name, str(raw)], check=True)
    frame = ["-trim", "-bordercolor", "#fbfaf7", "-border", "14", "+repage", "-colors", "64"]
    subprocess.run(["convert", str(raw), *frame, str(path)], check=True)
    window.terminate()
    window.wait()
    print(path)


def _quoted(text: str) -> str:
    return "'" + text.replace("'", "'\\''") + "'"


def main(names: list[str]) -> None:
    """Take all pictures, or those named."""
    os.environ["PATH"] = f"{Path(sys.executable).parent}:{os.environ['PATH']}:/usr/sbin"
    missing = [t for t in ("Xvfb", "xterm", "import", "chromium") if shutil.which(t) is None]
    if missing:
        sys.exit(f"this needs {', '.join(missing)}")
    OUT.mkdir(exist_ok=True)
    screen = subprocess.Popen(["Xvfb", DISPLAY, "-screen", "0", "1280x1400x24"])
    try:
        time.sleep(1)
        with tempfile.TemporaryDirectory() as place:
            for folder, option in (("quillmere", "--sample"), ("quillmere-mended", "--mended")):
                subprocess.run(
                    ["oaktag", "new", f"{place}/{folder}", option],
                    check=True,
                    stdout=subprocess.DEVNULL,
                )
            for name, (folder, commands) in SHOTS.items():
                if not names or name in names:
                    take(name, Path(place) / folder, commands)
            for name, (folder, command) in FIGURES.items():
                if not names or name in names:
                    made = [*command.split(), str(OUT / f"{name}.png")]
                    subprocess.run(made, cwd=Path(place) / folder, stdout=subprocess.DEVNULL)
            for name, (folder, command) in PAGES.items():
                if not names or name in names:
                    page = Path(place) / folder / f"{name}.html"
                    made = [*command.split(), str(page)]
                    subprocess.run(made, cwd=page.parent, stdout=subprocess.DEVNULL)
                    subprocess.run(
                        [*BROWSER, f"--screenshot={OUT / f'{name}.png'}", page.as_uri()],
                        check=True,
                        stderr=subprocess.DEVNULL,
                    )
    finally:
        screen.terminate()
        screen.wait()


if __name__ == "__main__":
    main(sys.argv[1:])
