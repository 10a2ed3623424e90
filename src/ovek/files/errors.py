"""The one way in which Ovek says that a file is not what it should be."""

from pathlib import Path


class InputError(Exception):
    """A file that cannot be used: which, where in it, what was met, and what to do.

    `line` counts from 1; `key` is a path of keys such as `members[0].volumes[1].free`.
    """

    def __init__(
        self,
        file: Path | str,
        met: str,
        do: str,
        *,
        line: int | None = None,
        key: str | None = None,
    ) -> None:
        super().__init__(met)
        self.file, self.line, self.key, self.met, self.do = str(file), line, key, met, do

    def __str__(self) -> str:
        where = self.file
        if self.line is not None:
            where += f", line {self.line}"
        if self.key:
            where += f", key {self.key}"
        end = "" if self.do.endswith("?") else "."
        return f"{where}: {self.met}. {self.do}{end}"
