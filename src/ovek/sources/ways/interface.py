"""What every way to reach a device is given: the device, what is asked of it, and its connection.

A way is a coroutine `read(door)` that fills `door.interview`; it raises ReadProblem.
"""

from collections.abc import Awaitable, Callable
from contextlib import AsyncExitStack
from pathlib import Path
from typing import Any, Protocol

from asyncssh import SSHClientConnection
from msgspec import Struct, field

from ovek.model.fleet import FleetDevice, Login, Snmp
from ovek.sources.device_session import Interview, WantedDigests
from ovek.sources.problem import ReadProblem
from ovek.sources.progress import UNWATCHED, Progress
from ovek.sources.ssh import Gates, Limits, connected
from ovek.sources.trust import HostKeys, Secrets


class Shared(Protocol):
    """What a way keeps for all the devices that are read by it."""

    def close(self) -> None:
        """No more devices are read."""


class Setup(Struct, frozen=True, kw_only=True):
    """What all readings share. `rate` in bytes a second, `wait` in seconds to the first retry.

    `captures` are saved sessions that take the place of those that the fleet file names.
    `logins` tells by a device's name how it is logged in to, `snmp` how it is asked by SNMP.
    `shared` is what ways keep for all devices, by their names; `progress` is told how far it is.
    """

    site: Path
    wanted: WantedDigests
    keys: HostKeys
    secrets: Secrets
    limits: Limits = Limits()
    tries: int = 3
    wait: float = 1.0
    rate: int | None = None
    captures: tuple[Path, ...] = ()
    logins: dict[str, Login] = {}
    snmp: dict[str, Snmp] = {}
    gates: Gates = field(default_factory=Gates)
    progress: Progress = UNWATCHED
    shared: dict[str, Shared] = {}


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
                connected(
                    self.login(),
                    setup.limits,
                    setup.keys,
                    setup.secrets,
                    setup.gates,
                    self.interview.seat.logs_in,
                )
            )
        return self._connection

    @property
    def user(self) -> str | None:
        """Whom it is logged in to as."""
        login = self.setup.logins.get(self.device.name)
        return login.user if login is not None else None

    def login(self) -> Login:
        """How it is logged in to; raises ReadProblem where it has no host."""
        login = self.setup.logins.get(self.device.name)
        if login is None:
            raise ReadProblem("reading", "it has no host", "Set `host` in fleet.toml")
        return login


Read = Callable[[Door], Awaitable[None]]
