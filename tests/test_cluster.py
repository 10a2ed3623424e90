"""A fleet spread over other machines: the same answer, also where a worker dies on the way."""

import contextlib
import os
import re
import shutil
import signal
import subprocess
import sys
import time

import pytest

from builders import ONE, device, flash, image, member, plain

distributed = pytest.importorskip("distributed")
dask = pytest.importorskip("dask")


def sw(number):
    files = [plain(f"logs/{at}.log", at) for at in range(60)]
    boots = (ONE,) if number % 7 else ("flash:sw-9.img", ONE)
    volume = flash(image("1.0"), *files)
    return device(member(volumes=(volume,), boots=boots), device=f"sw{number:03}", place=ONE)


@contextlib.contextmanager
def cluster(folder, workers=2, protocol="tcp", flags=(), worker_flags=()):
    """A scheduler and some workers, each a process of its own: the address, and the workers."""
    environment = {**os.environ, "DASK_DISTRIBUTED__SCHEDULER__ALLOWED_FAILURES": "10"}
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, "env": environment}
    file = folder / "scheduler.json"
    scheduler = subprocess.Popen(
        [sys.executable, "-m", "distributed.cli.dask_scheduler", "--host", "127.0.0.1", "--port",
         "0", "--no-dashboard", "--scheduler-file", file, "--protocol", protocol, *flags],
        cwd=folder, **quiet,
    )  # fmt: skip
    started = []
    try:
        for _ in range(300):
            if file.exists() and file.read_text().strip().endswith("}"):
                break
            time.sleep(0.1)
        address = re.search(rf'"address": "({protocol}://[^"]+)"', file.read_text())[1]
        command = [
            sys.executable, "-m", "distributed.cli.dask_worker", address, "--nthreads", "1",
            "--nworkers", "1", "--no-dashboard", "--no-nanny", "--local-directory", folder, *flags,
            *worker_flags,
        ]  # fmt: skip
        started += [subprocess.Popen(command, cwd=folder, **quiet) for _ in range(workers)]
        security = distributed.security.Security()
        with distributed.Client(address, set_as_default=False, security=security) as client:
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
    assert "no Dask scheduler answers" in told
    assert "tcp://127.0.0.1:1" in told
    assert "nonsense" in ovek.refuses("audit", "--on", "nonsense")


ROGUE = """
from pathlib import Path
import ovek.app.cluster as cluster

class Rogue:
    def __reduce__(self):
        return (open, ("RAN", "w"))

answers = {"code": Rogue(), "text": "go", "bytes": b"\\x81", "other": cluster.encode({"done": "x"})}
cluster._answered = lambda version, work: answers[Path("HOW").read_text()]
"""


def test_a_rogue_worker_runs_nothing_here_by_what_it_answers(ovek, tmp_path):
    ovek.snapshot(sw(1))
    (tmp_path / "cluster").mkdir()
    ran, how = tmp_path / "ran", tmp_path / "how"
    ovek.write("rogue.py", ROGUE.replace("RAN", str(ran)).replace("HOW", str(how)))
    flags = ("--preload", ovek.folder / "rogue.py")
    with cluster(tmp_path / "cluster", workers=1, worker_flags=flags) as (address, _):
        for answer in ("code", "text", "bytes", "other"):
            how.write_text(answer)
            told = ovek.refuses("audit", "--on", address)
            assert "a worker sent an answer that cannot be read" in told, answer
    assert not ran.exists()


def certified(folder, name, *, by=None):
    """A certificate for this machine: its own authority's, or of another one."""
    key, pem, ca = (folder / f"{name}{end}" for end in ("-key.pem", ".pem", "-ca.pem"))
    authority = by or (folder / f"{name}-ca-key.pem", ca)
    quiet = {"check": True, "capture_output": True}
    new = ["openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256",
           "-nodes", "-days", "2"]  # fmt: skip
    if by is None:
        subprocess.run([*new, "-keyout", authority[0], "-out", ca, "-subj", f"/CN={name}"], **quiet)
    subprocess.run(
        [*new, "-keyout", key, "-out", pem, "-subj", "/CN=127.0.0.1", "-addext",
         "subjectAltName=IP:127.0.0.1", "-CA", authority[1], "-CAkey", authority[0]], **quiet,
    )  # fmt: skip
    return authority[1], pem, key


def test_with_certificates_only_those_of_one_authority_take_part(ovek, tmp_path, monkeypatch):
    if shutil.which("openssl") is None:
        pytest.skip("openssl is not installed")
    ovek.snapshot(*(sw(number) for number in range(20)))
    folder = tmp_path / "cluster"
    folder.mkdir()
    ca, pem, key = certified(folder, "ours")
    _, foreign, foreign_key = certified(folder, "others")
    tls = "DASK_DISTRIBUTED__COMM__TLS__"
    monkeypatch.setenv(f"{tls}CA_FILE", str(ca))
    with monkeypatch.context() as patch:
        config = {f"distributed.comm.tls.{name}": str(file) for name, file in (
            ("ca-file", ca), ("client.cert", pem), ("client.key", key))}  # fmt: skip
        flags = ["--tls-ca-file", ca, "--tls-cert", pem, "--tls-key", key]
        with dask.config.set(config), cluster(folder, 1, "tls", flags) as (address, _):
            assert address.startswith("tls://")
            patch.setenv(f"{tls}CLIENT__CERT", str(pem))
            patch.setenv(f"{tls}CLIENT__KEY", str(key))
            typed = [sys.executable, "-m", "ovek", "audit", "--format", "json", "--on", address]
            done = subprocess.run(typed, cwd=ovek.folder, capture_output=True, check=False)
            local, code = outputs(ovek, ["audit", "--format", "json"])
            assert done.returncode == code, done.stderr
            assert re.sub(r'"as_of":"[^"]*"', "", done.stdout.decode()) == local
            patch.setenv(f"{tls}CLIENT__CERT", str(foreign))
            patch.setenv(f"{tls}CLIENT__KEY", str(foreign_key))
            done = subprocess.run(typed, cwd=ovek.folder, capture_output=True, check=False)
            assert done.returncode == 2 and b"no Dask scheduler answers" in done.stderr
