"""Who is told how far the reading of devices is, while it goes on."""

from typing import Protocol


class Progress(Protocol):
    """Who is told what happens to each device."""

    def began(self, device: str) -> None:
        """A device is read now."""

    def answered(self, device: str, size: int) -> None:
        """It has sent one more answer, of so many characters."""

    def transferred(self, device: str, size: int) -> None:
        """So many bytes more of a file of it were read."""

    def expects(self, device: str, number: int, seconds: float, rate: int | None) -> None:
        """So many digests of it may take so long; `rate` is how fast files are read, in bytes."""

    def digested(self, device: str) -> None:
        """One of these digests is there."""


class Unwatched:
    """Nobody looks."""

    def began(self, device: str) -> None:
        """A device is read now."""

    def answered(self, device: str, size: int) -> None:
        """It has sent one more answer."""

    def transferred(self, device: str, size: int) -> None:
        """So many bytes more of a file of it were read."""

    def expects(self, device: str, number: int, seconds: float, rate: int | None) -> None:
        """So many digests of it may take so long."""

    def digested(self, device: str) -> None:
        """One of these digests is there."""


UNWATCHED = Unwatched()
