"""Take a picture of each main command's output on the sample site, into docs/screenshots/.

`python scripts/make_screenshots.py [NAME…]`. Needs Debian's xvfb, xterm, imagemagick and
fonts-dejavu-core: each command runs in a real terminal window on a screen of its own. The report is
opened in Debian's chromium, by Playwright.
"""

import gzip
import hashlib
import os
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from ovek.demo import write_site

ROOT = Path(__file__).parent.parent
OUT = ROOT / "docs/screenshots"
SHOTS = {
    "survey": "ovek survey -v",
    "sheet-learn": "ovek sheet learn my-core sessions/arle-core-marked.txt",
    "audit": "ovek audit | head -n 45",
    "bootwalk": "ovek bootwalk arle-quay arle-stack brack-core brack-wifi brack-edge holm-office",
    "compare": "ovek compare before-7.4.2 'arle-[cs]*' --expect target",
    "cleanup": "ovek cleanup gannet-bridge --free 60MiB",
    "runbook": "ovek runbook brack-hall heron-bridge -v | head -n 46",
    "catalog": "ovek catalog pick arle-quay",
    "custody": "ovek custody 7.4.2",
    "where": "ovek where 7.4.2",
    "shelf": "ovek shelf",
    "history": "ovek history device arle-stack",
}
# What draws a figure, and how; several are put beneath each other.
FIGURES = {
    "cleanup-figure": ["cleanup --whole-fleet --room-for target --figure"],
    "chart-flash": ["chart flash -o"],
    "chart-verdicts": ["chart verdicts -o"],
    "chart-walk": ["chart walk arle-quay -o"],
    "chart-others": ["chart versions -o", "chart waves -o", "chart trend -o"],
}
# Where the page of the report is looked at, by its address, and in which colours.
PAGES = {"report": ("", "light"), "report-device": ("#d:brack-core", "dark")}
SCREEN = ":47"


def take(name: str, typed: str, site: Path) -> None:
    """Run one command in a terminal window and keep what it shows."""
    # A pipe would take the colours away; script(1) gives the command a terminal of its own.
    command = typed.split(" | ")
    shown = f"script -qec '{command[0]}' /dev/null"
    line = " | ".join([shown, *command[1:]])
    os.environ["OVEK_PASSWORD"] = "harbour"
    text = f"cd {site}; printf '\\033[1m$ {typed}\\033[0m\\n'; {line}; sleep 60"
    terminal = subprocess.Popen(
        ["xterm", "-display", SCREEN, "-fa", "DejaVu Sans Mono", "-fs", "11", "-bg", "#10141a",
         "-fg", "#d8dee6", "-geometry", "140x47+0+0", "-e", "bash", "-c", text]
    )  # fmt: skip
    time.sleep(9 if name == "survey" else 4)
    subprocess.run(
        ["import", "-display", SCREEN, "-window", "root", str(OUT / f"{name}.png")], check=True
    )
    terminal.terminate()
    terminal.wait()


@contextmanager
def standins(site: Path) -> Iterator[None]:
    """Serve the sample's stand-ins as long as this lasts."""
    command = [sys.executable, "-m", "ovek", "standin", "serve", "--site", str(site)]
    with subprocess.Popen(command, stdout=subprocess.PIPE) as serving:
        serving.stdout.readline()
        yield
        serving.terminate()


def write_shelf(site: Path) -> None:
    """A small shelf: a release as published, one cut short, one zipped and damaged, one unknown."""
    folder = site / "shelf"
    folder.mkdir()
    data = {name: f"{name} ".encode() * 200_000 for name in ("wharf-2.0.img", "wharf-2.1.img")}
    lines = "".join(f"{hashlib.md5(d).hexdigest()} *{n}\n" for n, d in data.items())
    (site / "catalog/wharf.md5").write_text(lines)
    (folder / "wharf-2.0.img").write_bytes(data["wharf-2.0.img"])
    (folder / "wharf-2.1 (1).img").write_bytes(data["wharf-2.1.img"])
    (folder / "wharf-2.1.img").write_bytes(data["wharf-2.1.img"][:-4096])
    packed = gzip.compress(data["wharf-2.0.img"])
    (folder / "wharf-2.0.img.gz").write_bytes(packed)
    (folder / "wharf-1.9.img.gz").write_bytes(packed[: len(packed) // 2])
    (folder / "ox40-full-7.9.9.img").write_bytes(b"unknown")


def ovek(site: Path, *typed: str) -> None:
    """Run a command on the site; a finding is no failure."""
    command = [sys.executable, "-m", "ovek", *typed]
    done = subprocess.run(command, cwd=site, stdout=subprocess.DEVNULL, check=False)
    if done.returncode not in (0, 1, 3):
        sys.exit(f"{command} ended with {done.returncode}")


def draw(name: str, site: Path) -> None:
    """Draw a figure, or several beneath each other."""
    files = []
    for number, typed in enumerate(FIGURES[name]):
        files.append(site / f"{name}-{number}.png")
        ovek(site, *typed.split(), str(files[-1]))
    subprocess.run(
        ["convert", "-background", "white", *map(str, files), "-append", str(OUT / f"{name}.png")],
        check=True,
    )


def look(names: list[str], site: Path) -> None:
    """Open the report, as it tells the news since the one before."""
    from playwright.sync_api import sync_playwright

    page_file = site / "fleet.html"
    ovek(site, "report", "--snapshot", "before-7.4.2", "-o", str(page_file))
    ovek(site, "report", "-o", str(page_file))
    quiet = ["--no-sandbox", "--disable-gpu", "--disable-background-networking"]
    with sync_playwright() as driver:
        browser = driver.chromium.launch(executable_path="/usr/bin/chromium", args=quiet)
        for name in names:
            where, scheme = PAGES[name]
            page = browser.new_page(viewport={"width": 1280, "height": 800}, color_scheme=scheme)
            page.goto(page_file.as_uri() + where)
            page.wait_for_timeout(800)
            page.screenshot(path=str(OUT / f"{name}.png"))
        browser.close()


def main() -> None:
    for program in ("Xvfb", "xterm", "import"):
        if shutil.which(program) is None:
            sys.exit(f"{program} is not installed: apt-get install xvfb xterm imagemagick")
    OUT.mkdir(parents=True, exist_ok=True)
    wanted = sys.argv[1:] or [*SHOTS, *FIGURES, *PAGES]
    screen = subprocess.Popen(["Xvfb", SCREEN, "-screen", "0", "1280x800x24"])
    try:
        time.sleep(1)
        with tempfile.TemporaryDirectory() as folder:
            site = Path(folder, "skerrow-ferries")
            write_site(site)
            ovek(site, "history", "add", "baselines/before-7.4.2.jsonl")
            for name in [each for each in wanted if each in FIGURES]:
                draw(name, site)
            look([each for each in wanted if each in PAGES], site)
            with standins(site):
                for name in [each for each in wanted if each in SHOTS]:
                    if name == "shelf":
                        write_shelf(site)
                    take(name, SHOTS[name], site)
    finally:
        screen.terminate()
        screen.wait()


if __name__ == "__main__":
    main()
