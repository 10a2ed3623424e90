"""Print what pyproject.toml allows at least, each at its lowest version, a line each for pip.

`python scripts/lowest.py | pip install -r /dev/stdin` makes an environment of the oldest parts that
Ovek says it works with.
"""

import re
import tomllib
from pathlib import Path

_ROOT = Path(__file__).parent.parent
# What tests need besides; and what is left out, as it only reads our code or what was drawn.
_EXTRAS = ("figures", "keyring", "yaml", "signatures", "dev")
_LEFT_OUT = {
    "axe-playwright-python", "csaf", "mkdocs", "mypy", "playwright", "ruff", "types-defusedxml",
    "types-PyYAML",
}  # fmt: skip


def main() -> None:
    project = tomllib.loads((_ROOT / "pyproject.toml").read_text())["project"]
    extras = [line for name in _EXTRAS for line in project["optional-dependencies"].get(name, ())]
    for line in (*project["dependencies"], *extras):
        name = re.split(r"[><=\[; ]", line, maxsplit=1)[0]
        if name not in _LEFT_OUT and name != "ovek":
            print(line.replace(">=", "=="))


if __name__ == "__main__":
    main()
