"""What every way to reach a device is given: the device, what is asked of it, and its connection.

A way is a coroutine `read(door)` that fills `door.interview`; it raises ReadProblem.
"""

from collections.abc import Awaitable, Callable
from contextlib import AsyncExitStack
from pathlib import Path
from typing import Any

from asyncssh import SSHClientConnection
from msgspec import Struct

from ovek.model.fleet import FleetDevice
from ovek.sources.interview import Expects, Interview, Wanted
from ovek.sources.ssh import Limits, connected
from ovek.sources.trust import HostKeys, Secrets


class Setup(Struct, frozen=True, kw_only=True):
    """What all readings share. `rate` in bytes a second, `wait` in seconds to the first retry."""

    site: Path
    wanted: Wanted
    keys: HostKeys
    secrets: Secrets
    limits: Limits = Limits()
    tries: int = 3
    wait: float = 1.0
    rate: int | None = None
    expects: Expects | None = None


class Door:
    """One device that is read, and the one connection that its ways share.

    `partial` keeps digests of files that were not read to their end.
    """

    def __init__(
        self,
        device: FleetDevice,
        interview: Interview,
        setup: Setup,
        partial: dict[str, tuple[Any, int]],
        stack: AsyncExitStack,
    ) -> None:
        self.device, self.interview, self.setup = device, interview, setup
        self.partial, self._stack = partial, stack
        self._connection: SSHClientConnection | None = None

    async def connection(self) -> SSHClientConnection:
        """The connection to the device, made where there is none yet; raises ReadProblem."""
        if self._connection is None:
            setup = self.setup
            self._connection = await self._stack.enter_async_context(
                connected(self.device, setup.limits, setup.keys, setup.secrets)
            )
        return self._connection


Read = Callable[[Door], Awaitable[None]]
