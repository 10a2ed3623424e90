"""What is not installed, since it is an extra."""


class NoExtraError(Exception):
    """What needs an extra that is not installed.

    >>> print(NoExtraError("figures", "figures need the extra of that name"))
    figures need the extra of that name; install it: pip install 'ovek[figures]'
    """

    def __init__(self, extra: str, what: str) -> None:
        super().__init__(f"{what}; install it: pip install 'ovek[{extra}]'")
