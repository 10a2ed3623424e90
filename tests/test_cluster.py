"""A fleet spread over other machines: the same answer, also where a worker dies on the way."""

import contextlib
import os
import re
import signal
import subprocess
import sys
import time

import pytest

from builders import device, flash, image, member, plain

distributed = pytest.importorskip("distributed")
ONE = "flash:sw-1.0.img"


def sw(number):
    files = [plain(f"logs/{at}.log", at) for at in range(60)]
    boots = (ONE,) if number % 7 else ("flash:sw-9.img", ONE)
    volume = flash(image("1.0"), *files)
    return device(member(volumes=(volume,), boots=boots), device=f"sw{number:03}", place=ONE)


@contextlib.contextmanager
def cluster(folder, workers=2):
    """A scheduler and some workers, each a process of its own: the address, and the workers."""
    environment = {**os.environ, "DASK_DISTRIBUTED__SCHEDULER__ALLOWED_FAILURES": "10"}
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, "env": environment}
    file = folder / "scheduler.json"
    scheduler = subprocess.Popen(
        [sys.executable, "-m", "distributed.cli.dask_scheduler", "--host", "127.0.0.1", "--port",
         "0", "--no-dashboard", "--scheduler-file", file], cwd=folder, **quiet,
    )  # fmt: skip
    started = []
    try:
        for _ in range(300):
            if file.exists() and file.read_text().strip().endswith("}"):
                break
            time.sleep(0.1)
        address = re.search(r'"address": "(tcp://[^"]+)"', file.read_text())[1]
        command = [
            sys.executable, "-m", "distributed.cli.dask_worker", address, "--nthreads", "1",
            "--nworkers", "1", "--no-dashboard", "--no-nanny", "--local-directory", folder,
        ]  # fmt: skip
        started += [subprocess.Popen(command, cwd=folder, **quiet) for _ in range(workers)]
        with distributed.Client(address, set_as_default=False) as client:
            client.wait_for_workers(workers, timeout=60)
        yield address, started
    finally:
        for process in (*started, scheduler):
            process.kill()
            process.wait()


def outputs(ovek, typed, *more):
    done = ovek(*typed, *more, exits=None)
    # When it was asked is all that may differ.
    return re.sub(r'"as_of":"[^"]*"', "", done.stdout), done.returncode


def test_workers_elsewhere_give_the_same_bytes_also_when_one_is_killed(ovek, tmp_path):
    ovek.snapshot(*(sw(number) for number in range(150)))
    (tmp_path / "cluster").mkdir()
    commands = (
        ["audit"],
        ["audit", "--format", "json"],
        ["where", "1.0"],
        ["custody"],
        ["runbook"],
        ["report", "--format", "markdown"],
        ["cleanup", "--whole-fleet", "--free", "1MiB"],
    )
    with cluster(tmp_path / "cluster") as (address, workers):
        for typed in commands:
            assert outputs(ovek, typed, "--on", address) == outputs(ovek, typed), typed
        asked = subprocess.Popen(
            [sys.executable, "-m", "ovek", "audit", "--format", "json", "--on", address],
            cwd=ovek.folder, stdout=subprocess.PIPE, stderr=subprocess.PIPE, encoding="utf-8",
        )  # fmt: skip
        time.sleep(1.5)
        workers[0].send_signal(signal.SIGKILL)
        told, stderr = asked.communicate(timeout=120)
        assert asked.returncode == 1, stderr
        local, _ = outputs(ovek, ["audit", "--format", "json"])
        assert re.sub(r'"as_of":"[^"]*"', "", told) == local


def test_a_shelf_is_digested_by_the_workers_and_what_they_cannot_read_is_read_here(ovek, tmp_path):
    (tmp_path / "cluster").mkdir()
    files = {f"sw-{at}.img": os.urandom(400_000) for at in range(6)}
    for name, data in files.items():
        ovek.write(f"shelf/{name}", data)
    here = ovek.json("shelf", "--fresh", exits=None)
    with cluster(tmp_path / "cluster") as (address, workers):
        there = ovek.json("shelf", "--fresh", "--on", address, exits=None)
        assert there["files"] == here["files"]
        workers[0].send_signal(signal.SIGKILL)
        again = ovek.json("shelf", "--fresh", "--on", address, exits=None)
        assert again["files"] == here["files"]


def test_an_address_where_nobody_is_is_told(ovek):
    told = ovek.refuses("audit", "--on", "tcp://127.0.0.1:1")
    assert "no scheduler that answers" in told
    assert "tcp://127.0.0.1:1" in told
    assert "nonsense" in ovek.refuses("audit", "--on", "nonsense")
