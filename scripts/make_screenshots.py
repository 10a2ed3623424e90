"""Take a picture of each main command's output on the sample site, into docs/screenshots/.

`python scripts/make_screenshots.py [NAME…]`. Needs Debian's xvfb, xterm, imagemagick and
fonts-dejavu-core: each command runs in a real terminal window on a screen of its own.
"""

import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from ovek.demo import write_site

ROOT = Path(__file__).parent.parent
OUT = ROOT / "docs/screenshots"
SHOTS = {
    "audit": "ovek audit | head -n 42",
    "findings": "ovek audit | tail -n 44",
    "bootwalk": "ovek bootwalk arle-quay arle-stack brack-core brack-wifi brack-edge holm-office",
    "cleanup": "ovek cleanup gannet-bridge --free 60MiB",
    "cleanup-short": "ovek cleanup gannet-bridge --free 101MiB",
}
SCREEN = ":47"


def take(name: str, typed: str, site: Path) -> None:
    """Run one command in a terminal window and keep what it shows."""
    # A pipe would take the colours away; script(1) gives the command a terminal of its own.
    command = typed.split(" | ")
    shown = f"script -qec '{command[0]}' /dev/null"
    line = " | ".join([shown, *command[1:]])
    text = f"cd {site}; printf '\\033[1m$ {typed}\\033[0m\\n'; {line}; sleep 60"
    terminal = subprocess.Popen(
        ["xterm", "-display", SCREEN, "-fa", "DejaVu Sans Mono", "-fs", "11", "-bg", "#10141a",
         "-fg", "#d8dee6", "-geometry", "140x47+0+0", "-e", "bash", "-c", text]
    )  # fmt: skip
    time.sleep(4)
    subprocess.run(
        ["import", "-display", SCREEN, "-window", "root", str(OUT / f"{name}.png")], check=True
    )
    terminal.terminate()
    terminal.wait()


def main() -> None:
    for program in ("Xvfb", "xterm", "import"):
        if shutil.which(program) is None:
            sys.exit(f"{program} is not installed: apt-get install xvfb xterm imagemagick")
    OUT.mkdir(parents=True, exist_ok=True)
    wanted = sys.argv[1:] or list(SHOTS)
    screen = subprocess.Popen(["Xvfb", SCREEN, "-screen", "0", "1280x800x24"])
    try:
        time.sleep(1)
        with tempfile.TemporaryDirectory() as folder:
            site = Path(folder, "skerrow-ferries")
            write_site(site)
            for name in wanted:
                take(name, SHOTS[name], site)
    finally:
        screen.terminate()
        screen.wait()


if __name__ == "__main__":
    main()
