"""Coverage-guided search with Atheris: `PYTHONPATH=tests python -m hostile.search GROUP FOLDER`.

GROUP is archives, answers or lists; FOLDER keeps the inputs that reach new code, from run to run.
What is behind it are libFuzzer's own options, such as -max_total_time=3600. It needs `atheris`.
"""

import random
import signal
import sys
import tempfile
from pathlib import Path

import atheris

with atheris.instrument_imports(include=["ovek", "textfsm", "tarfile", "zipfile"]):
    from hostile.parsers import ALLOWED, PARSERS

GROUPS = {
    "archives": ["archives"],
    "answers": ["answers", "sessions", "boot environments"],
    "lists": [
        "digest lists",
        "side files",
        "tables",
        "Metalink",
        "pasted text",
        "what an import claims",
        "catalogs",
        "snapshots",
        "fleet lists",
        "sheets",
    ],
}
MOST_SECONDS = 5


def main() -> None:
    group, kept = GROUPS[sys.argv[1]], Path(sys.argv[2])
    kept.mkdir(parents=True, exist_ok=True)
    if not any(kept.iterdir()):
        for number, name in enumerate(group):
            for at, sample in enumerate(PARSERS[name][0]):
                (kept / f"{number}-{at}").write_bytes(bytes([number]) + sample[:4000])
    folder = Path(tempfile.mkdtemp(dir="/dev/shm" if Path("/dev/shm").is_dir() else None))

    def one(data: bytes) -> None:
        if not data:
            return
        _, file_name, run = PARSERS[group[data[0] % len(group)]]
        for each in folder.iterdir():
            each.unlink()
        file = folder / file_name
        file.write_bytes(data[1:])
        signal.setitimer(signal.ITIMER_REAL, MOST_SECONDS)
        try:
            run(file)
        except ALLOWED:
            pass
        finally:
            signal.setitimer(signal.ITIMER_REAL, 0)

    random.seed(1)
    atheris.Setup([sys.argv[0], *sys.argv[3:], str(kept)], one)
    atheris.Fuzz()


if __name__ == "__main__":
    main()
