"""The `cluster` rows: a first audit on Dask workers of this machine, against its own processes.

`python benchmarks/cluster.py [DEVICES]` (default 5,000). A scheduler and two or four workers run
here. Sending the lines and the site costs time; what is gained by more machines is in
docs/scale.md.
"""

import contextlib
import re
import subprocess
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import distributed

from generated import write_site
from measure import OVEK, PYTHON, Row, first, show, size_asked


@contextlib.contextmanager
def dask(folder: Path, workers: int) -> Iterator[str]:
    """A scheduler with some workers; its address."""
    file = folder / f"scheduler-{workers}.json"
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    scheduler = subprocess.Popen(
        [PYTHON, "-m", "distributed.cli.dask_scheduler", "--host", "127.0.0.1", "--port", "0",
         "--no-dashboard", "--scheduler-file", str(file)], cwd=folder, **quiet,
    )  # fmt: skip
    started = [scheduler]
    try:
        while not (file.exists() and file.read_text().strip().endswith("}")):
            time.sleep(0.1)
        address = re.search(r'"address": "(tcp://[^"]+)"', file.read_text())[1]
        started += [
            subprocess.Popen(
                [PYTHON, "-m", "distributed.cli.dask_worker", address, "--nthreads", "1",
                 "--nworkers", "1", "--no-dashboard", "--no-nanny", "--local-directory",
                 str(folder)], cwd=folder, **quiet,
            )
            for _ in range(workers)
        ]  # fmt: skip
        with distributed.Client(address, set_as_default=False) as client:
            client.wait_for_workers(workers, timeout=60)
        yield address
    finally:
        for process in started:
            process.kill()
            process.wait()


def rows(devices: int = 5_000) -> Iterator[Row]:
    """How long a first audit takes on workers, against processes of this machine."""
    typed = f"python benchmarks/cluster.py {devices}"
    with tempfile.TemporaryDirectory() as name:
        folder, site = Path(name), Path(name, "site")
        write_site(site, devices)
        audit = (*OVEK, "audit", "--format", "json", "--site", str(site))
        here = first(*audit).seconds
        for workers in (2, 4):
            with dask(folder, workers) as address:
                first(*audit, "--on", address)  # the site goes to each worker once
                took = first(*audit, "--on", address).seconds
            yield Row(
                f"first audit of {devices:,} devices on {workers} Dask workers of this machine, "
                "against its own processes", "none",
                f"{took / here:.2f} ×; {took:.1f} s against {here:.1f} s", None, typed,
            )  # fmt: skip


if __name__ == "__main__":
    show(rows(size_asked(5_000)))
