"""The report of a fleet: how large the page is, and how quickly it opens, filters and draws.

`python benchmarks/report.py [DEVICES]` (default 2,000). The page is opened in Debian's chromium by
Playwright, as a file, five times; the medians are told.
"""

import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from playwright.sync_api import sync_playwright

from generated import write_site

QUIET = ["--no-sandbox", "--disable-gpu", "--disable-background-networking", "--disable-sync"]
FILTER = """() => {
  const box = document.getElementById('f-text');
  const began = performance.now();
  box.value = '77';
  box.dispatchEvent(new Event('input', {bubbles: true}));
  document.body.offsetHeight;
  return performance.now() - began;
}"""
SORT = """() => {
  const began = performance.now();
  document.querySelectorAll('#t-fleet button')[1].click();
  document.body.offsetHeight;
  return performance.now() - began;
}"""
DRAW = """async () => {
  const box = document.querySelector('#devices details');
  const began = performance.now();
  box.open = true;
  while (!box.querySelector('.path')) await new Promise((done) => setTimeout(done, 1));
  return performance.now() - began;
}"""


def main() -> None:
    devices = int(sys.argv[1]) if len(sys.argv) > 1 else 2_000
    with tempfile.TemporaryDirectory() as name:
        site, file = Path(name, "site"), Path(name, "fleet.html")
        write_site(site, devices)
        began = time.perf_counter()
        command = [sys.executable, "-m", "ovek", "report", "--site", str(site), "-o", str(file)]
        subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
        print(f"{devices} devices: written in {time.perf_counter() - began:.1f} s")
        print(f"the page has {file.stat().st_size / 2**20:.1f} MiB (wanted: 10 or less)")
        told: dict[str, list[float]] = {"open": [], "filter": [], "sort": [], "draw": []}
        with sync_playwright() as driver:
            for _ in range(5):
                browser = driver.chromium.launch(executable_path="/usr/bin/chromium", args=QUIET)
                page = browser.new_page(viewport={"width": 1280, "height": 800})
                began = time.perf_counter()
                page.goto(file.as_uri())
                page.evaluate("document.body.offsetHeight")
                told["open"].append(1000 * (time.perf_counter() - began))
                for what, script in (("filter", FILTER), ("sort", SORT), ("draw", DRAW)):
                    if what == "draw":
                        page.fill("#f-text", "")
                    told[what].append(page.evaluate(script))
                browser.close()
        wanted = {"open": " (wanted: 2000 or less)", "filter": " (wanted: 100 or less)"}
        for what, times in told.items():
            print(f"{what}: {statistics.median(times):.0f} ms{wanted.get(what, '')}")


if __name__ == "__main__":
    main()
