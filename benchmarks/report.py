"""The report of a fleet: how large the page is, and how quickly it opens, filters and draws.

`python benchmarks/report.py [DEVICES]` (default 2,000). The page is opened in Debian's chromium by
Playwright, as a file, five times; the medians are told.
"""

import statistics
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from playwright.sync_api import sync_playwright

from generated import write_site
from measure import OVEK, Row, at_most, first, show, size_asked

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


def rows(devices: int = 2_000) -> Iterator[Row]:
    """How a page of so many devices behaves in a browser."""
    typed, what = f"python benchmarks/report.py {devices}", f"report of {devices:,} devices"
    with tempfile.TemporaryDirectory() as name:
        site, file = Path(name, "site"), Path(name, "fleet.html")
        write_site(site, devices)
        took = first(*OVEK, "report", "--site", str(site), "-o", str(file)).seconds
        size = file.stat().st_size / 2**20
        yield at_most(f"{what}: its size", 10, size, f"written in {took:.1f} s", typed, " MiB")
        told: dict[str, list[float]] = {"open": [], "filter": [], "sort": [], "draw": []}
        with sync_playwright() as driver:
            for _ in range(5):
                browser = driver.chromium.launch(executable_path="/usr/bin/chromium", args=QUIET)
                page = browser.new_page(viewport={"width": 1280, "height": 800})
                began = time.perf_counter()
                page.goto(file.as_uri())
                page.evaluate("document.body.offsetHeight")
                told["open"].append(1000 * (time.perf_counter() - began))
                for action, script in (("filter", FILTER), ("sort", SORT), ("draw", DRAW)):
                    if action == "draw":
                        page.fill("#f-text", "")
                    told[action].append(page.evaluate(script))
                browser.close()
    wants = {"open": 2000, "filter": 100, "sort": 100, "draw": 500}
    for action, times in told.items():
        median = statistics.median(times)
        yield at_most(f"{what}: {action}", wants[action], median, "", typed, " ms")


if __name__ == "__main__":
    show(rows(size_asked(2_000)))
