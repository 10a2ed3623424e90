"""The one way in which Ovek says that a file is not what it should be."""

from pathlib import Path
from typing import Any

_LONGEST = 500  # characters of what was met, which may be a line of any length


class InputError(Exception):
    """A file that cannot be used: which, where in it, what was met, and what to do.

    `line` counts from 1; `key` is a path of keys such as `members[0].volumes[1].free`.
    """

    def __init__(
        self,
        file: Path | str,
        text: str,
        do: str,
        *,
        line: int | None = None,
        key: str | None = None,
    ) -> None:
        super().__init__(text)
        self.file, self.line, self.key, self.do = str(file), line, key, do
        self.met = text if len(text) <= _LONGEST else f"{text[: _LONGEST - 1]}…"

    def __reduce__(self) -> tuple[Any, ...]:
        """Pickle, so that a process of its own can say what is wrong."""
        return _again, (type(self), self.file, self.met, self.do, self.line, self.key)

    def __str__(self) -> str:
        where = self.file
        if self.line is not None:
            where += f", line {self.line}"
        if self.key:
            where += f", key {self.key}"
        end = "" if self.do.endswith("?") else "."
        return f"{where}: {self.met}. {self.do}{end}"


def _again(kind: Any, file: str, text: str, do: str, line: int | None, key: str | None) -> Any:
    return kind(file, text, do, line=line, key=key)


class DamagedError(InputError):
    """A file that Ovek keeps for itself is damaged; Ovek can build it again."""

    def put_aside(self) -> str:
        """Rename it, and return what to say. Raises InputError where that is not possible."""
        file = Path(self.file)
        aside = file.with_name(f"{file.name}.broken")
        try:
            file.replace(aside)
            for beside in ("-journal", "-wal", "-shm"):
                file.with_name(f"{file.name}{beside}").unlink(missing_ok=True)
        except OSError as error:
            reason = (error.strerror or str(error)).lower()
            raise InputError(
                file, f"is damaged and cannot be renamed ({reason})", "Delete it"
            ) from None
        return (
            f"{file}: {self.met}. It was renamed to {aside.name} and rebuilt from "
            "snapshots/. Add snapshots from other places again: ovek history add FILE"
        )


class ManyInputError(Exception):
    """Several things that are wrong with what was given, told all at once."""

    def __init__(self, errors: list[InputError]) -> None:
        super().__init__("; ".join(map(str, errors)))
        self.errors = errors
