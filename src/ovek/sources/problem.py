"""What keeps a device, or one of its facts, from being read."""


class ReadProblem(Exception):  # noqa: N818 - the design's errors explain themselves, this is one
    """What was being done, what was met, what to try.

    `passing` is whether it may be gone at the next try; `nothing` whether it leaves nothing known.
    """

    def __init__(self, doing: str, text: str, do: str, *, passing: bool = False) -> None:
        super().__init__(f"{doing}: {text}")
        self.doing, self.met, self.do, self.passing = doing, text, do, passing


class NoAnswerError(Exception):
    """One question has no answer; the rest of the device may still be read."""
