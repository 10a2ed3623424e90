"""What can happen to a run that writes: it is killed, the disk is full, another one runs.

`PYTHONPATH=tests python -m hostile.mishaps [--kills N]` kills every writing command N times, at
random moments. After each, all files of the site are whole; and the same command does its work.
"""

import argparse
import gzip
import json
import os
import random
import resource
import shutil
import signal
import subprocess
import sys
import tempfile
import time
import tomllib
from collections.abc import Callable
from pathlib import Path

import zygote
from builders.session import SESSION
from languages import marked
from ovek.files.importers import digestlist
from ovek.files.snapshot import read_snapshot

SAMPLE = Path(__file__).parents[2] / "src/ovek/demo/site"
DEVICES = 6
# Every command that writes, as it is typed, and the exit codes of a run that is left alone.
WRITING: dict[str, tuple[list[str], set[int]]] = {
    "survey": (["survey"], {0, 3}),
    "replay": (["survey", "--replay"], {0, 3}),
    "import": (["catalog", "import", "list.md5", "--name", "more", "--yes"], {0}),
    "shelf": (["shelf", "--write-list", "all.sha256", "--fresh"], {0, 1}),
    "baseline": (["compare", "--baseline", "before"], {0}),
    "figure": (["cleanup", "--whole-fleet", "--free", "1MiB", "--figure", "a.png"], {0, 1, 3}),
    "report": (["report", "-o", "fleet.html"], {0}),
    "chart": (["chart", "versions", "-o", "versions.png"], {0}),
    "sheet": (["sheet", "new", "another"], {0}),
    "learn": (["sheet", "learn", "taught", "marked.txt"], {0}),
    "demo": (["demo", "tour"], {0}),
}


def site(folder: Path) -> Path:
    """A site in a folder: devices by saved sessions, a shelf, a list to import, a snapshot."""
    made = folder / "site"
    (made / "captures").mkdir(parents=True)
    new = (Path(__file__).parents[2] / "src/ovek/files/new-sheet.toml").read_text()
    (made / "sheets").mkdir()
    (made / "sheets/box.toml").write_text(new.replace("NAME", "box"))
    fleet = 'format = "ovek.fleet/1"\nname = "Test"\n'
    for at in range(DEVICES):
        (made / f"captures/{at}.txt").write_text(SESSION)
        fleet += f'[[device]]\nname = "box{at}"\nsheet = "box"\naccess = ["capture"]\n'
        fleet += f'capture = ["captures/{at}.txt"]\n'
    (made / "fleet.toml").write_text(fleet)
    (made / "shelf").mkdir()
    for at in range(20):
        (made / f"shelf/image-{at}.img").write_bytes(bytes([at]) * 300_000)
    (made / "marked.txt").write_text(marked("lathe"))
    (made / "list.md5").write_text("".join(f"{at:032x} *image-{at}.img\n" for at in range(500)))
    return made


def places(folder: Path) -> dict[str, str]:
    """What the environment says of where is kept what is kept."""
    return {"XDG_CACHE_HOME": str(folder / "cache"), "MPLCONFIGDIR": "/tmp/m"}


def ended(folder: Path, *typed: str) -> tuple[int, str]:
    """How `ovek` ended, and what it said, where it was loaded before."""
    code, _, told = zygote.run(folder, *typed, **places(folder))
    return code, told.decode()


def ovek(folder: Path, *typed: str, **more: object) -> "subprocess.Popen[str]":
    """Start `ovek` in a site, its cache there too."""
    return subprocess.Popen(  # type: ignore[call-overload]
        [sys.executable, "-m", "ovek", *typed],
        cwd=folder,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        encoding="utf-8",
        env={**os.environ, **places(folder)},
        start_new_session=True,
        **more,
    )


def ready(folder: Path) -> Path:
    """A site that was surveyed once, so that every command has what it works on."""
    made = site(folder)
    code, told = ended(made, "survey")
    assert code in (0, 3), told
    return made


def whole(folder: Path) -> None:
    """Every file of a site is what its ending says, from its first byte to its last."""
    for file in folder.rglob("*"):
        if not file.is_file() or any(part.startswith(".") for part in file.parts[-3:]):
            continue
        if (kind := _KINDS.get(file.suffix)) is not None:
            kind(file)


def _journal(file: Path) -> None:
    for line in file.read_bytes().split(b"\n")[:-1]:
        json.loads(line)


_KINDS: dict[str, Callable[[Path], object]] = {
    ".jsonl": lambda file: list(read_snapshot(file)) if "standins" not in file.name else None,
    ".unfinished": _journal,
    ".json": lambda file: json.loads(file.read_bytes()),
    ".gz": lambda file: json.loads(gzip.decompress(file.read_bytes())),
    ".toml": lambda file: tomllib.loads(file.read_text()),
    ".sha256": lambda file: list(digestlist.read(file)),
    ".html": lambda file: _ends(file, b"</html>"),
    ".png": lambda file: _ends(file, b"IEND\xaeB`\x82"),
}


def _ends(file: Path, end: bytes) -> None:
    assert file.read_bytes().endswith(end), file


_REFUSED_AGAIN = {
    "sheet": "sheets/another.toml",
    "demo": "tour",
    "baseline": "baselines",
    "import": "catalog/more.json",
}


def cleared(name: str, folder: Path) -> None:
    """Take away what a command refuses to write again."""
    made = _REFUSED_AGAIN.get(name)
    if made is not None and (folder / made).is_dir():
        shutil.rmtree(folder / made)
    elif made is not None:
        (folder / made).unlink(missing_ok=True)


def killed(name: str, folder: Path, moment: float, *, and_again: bool = True) -> bool:
    """Kill a command at a moment (in seconds) of its run; whether it was still running.

    Every file is whole then, and where it is run again it does its work.
    """
    cleared(name, folder)
    process = ovek(folder, *WRITING[name][0])
    try:
        process.communicate(timeout=moment)
    except subprocess.TimeoutExpired:
        os.killpg(process.pid, signal.SIGKILL)
        process.communicate()
    whole(folder)
    was_running = process.returncode == -signal.SIGKILL
    if and_again:
        again(name, folder)
    return was_running


def again(name: str, folder: Path) -> None:
    """Run a command to its end, after whatever happened to it before."""
    typed, ends = WRITING[name]
    if name == "survey" and list((folder / "snapshots").glob("*.unfinished")):
        kept = {
            json.loads(line)["device"]
            for file in (folder / "snapshots").glob("*.unfinished")
            for line in file.read_bytes().split(b"\n")[:-1]
        }
        code, told = ended(folder, "survey", "--resume")
        assert code in ends, told
        newest = max((folder / "snapshots").glob("*.jsonl"))
        found = {device.device for device in read_snapshot(newest)}
        assert kept <= found and len(found) == DEVICES, (kept, found)
    else:
        cleared(name, folder)
        if name == "replay":
            ends = ends | {2}
        if name == "demo":  # the tour behind it takes a while and writes nothing of its own
            process = ovek(folder, *typed)
            while process.poll() is None and not (folder / "tour").exists():
                time.sleep(0.01)
            os.killpg(process.pid, signal.SIGKILL)
            process.communicate()
            whole(folder)
            return
        code, told = ended(folder, *typed)
        assert code in ends, (name, told)
        assert "Traceback" not in told, told
    whole(folder)


def duration(name: str, folder: Path) -> float:
    """Seconds that a command takes when it is left alone, with its start."""
    began = time.perf_counter()
    ovek(folder, "--version").communicate()
    again(name, folder)
    return time.perf_counter() - began


def without_room(name: str, folder: Path, most: int) -> None:
    """Run a command that may write no file of more bytes than `most`, as on a disk that is full."""

    def limit() -> None:
        resource.setrlimit(resource.RLIMIT_FSIZE, (most, most))

    cleared(name, folder)
    process = ovek(folder, *WRITING[name][0], preexec_fn=limit)
    _, told = process.communicate()
    assert "Traceback" not in told, told
    if process.returncode not in WRITING[name][1]:
        assert process.returncode in (2, 3) and told.startswith("ovek: "), (process, told)
    whole(folder)


def twice(name: str, folder: Path) -> None:
    """Run a command twice at the same time."""
    cleared(name, folder)
    typed, ends = WRITING[name]
    processes = [ovek(folder, *typed) for _ in range(2)]
    for process in processes:
        _, told = process.communicate()
        assert "Traceback" not in told, told
        refused = process.returncode == 2 and ("already" in told or "is not an empty" in told)
        assert process.returncode in ends or refused, (name, process.returncode, told)
    assert any(process.returncode in ends for process in processes)
    whole(folder)


def main() -> None:
    told = argparse.ArgumentParser(description=__doc__)
    told.add_argument("command", nargs="*", choices=[*WRITING, []])
    told.add_argument("--kills", type=int, default=200)
    told.add_argument("--seed", type=int, default=1)
    asked = told.parse_args()
    chance = random.Random(asked.seed)
    for name in asked.command or WRITING:
        with tempfile.TemporaryDirectory() as top:
            folder = ready(Path(top))
            takes, running = duration(name, folder), 0
            for number in range(asked.kills):
                # What a survey leaves has to be taken up each time; the rest, every fourth time.
                and_again = name == "survey" or number % 4 == 3
                moment = chance.uniform(0.05, 1.1) * takes
                running += killed(name, folder, moment, and_again=and_again)
                for old in sorted((folder / "snapshots").glob("2*"))[:-4]:
                    shutil.rmtree(old) if old.is_dir() else old.unlink()
            print(f"{name}: {asked.kills} times, {running} while it ran, all whole", flush=True)


if __name__ == "__main__":
    main()
