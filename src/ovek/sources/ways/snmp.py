"""By SNMP, v2c (RFC 3416) and v3 (RFC 3414): entities, storage, memory and the clock.

Only Get and GetBulk are sent. What comes from elsewhere, is longer than any answer or more than was
asked for is dropped before it is decoded. The tables are ENTITY-MIB (RFC 6933) and
HOST-RESOURCES-MIB (RFC 2790). What a table does not hold stays not known.
"""

import asyncio
import threading
import time
from collections.abc import Callable, Mapping
from contextlib import suppress
from datetime import UTC, datetime, timedelta, timezone, tzinfo
from itertools import count
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from ovek.model.fleet import Snmp
from ovek.model.pattern import compiled
from ovek.model.sheet import DESCRIBED
from ovek.sources.away import TURN, hush
from ovek.sources.clean import plain
from ovek.sources.entities import EntityComponent, told_of
from ovek.sources.problem import ReadProblem
from ovek.sources.ways.interface import Door

_ENTITY = "1.3.6.1.2.1.47.1.1.1.1"
_STORAGE = "1.3.6.1.2.1.25.2.3.1"
_DESCRIPTION = "1.3.6.1.2.1.1.1.0"  # sysDescr (RFC 3418)
_MEMORY = "1.3.6.1.2.1.25.2.2.0"  # hrMemorySize, in KBytes of 1,024
_DATE = "1.3.6.1.2.1.25.1.2.0"  # hrSystemDate
_KINDS = {"3": "chassis", "9": "module", "11": "stack"}
# hrStorageFixedDisk, hrStorageRemovableDisk, hrStorageFlashMemory
_DISKS = {f"1.3.6.1.2.1.25.2.1.{number}": number == 5 for number in (4, 5, 9)}
_MOST_ROWS = 20_000
_LONGEST = 1_024  # bytes of a text; those of these tables have 255 at most
_TIMES = 2  # an answer that is lost is asked for again
_WAIT = 5.0  # seconds for an answer
_AT_ONCE = 20  # values that one request asks for
_LONGEST_ANSWER = 8_192  # bytes: that many texts of 255, and what is around them
_MOST_DROPPED = 1_000  # datagrams that are no answer, after which nothing more is heard
_LONGEST_DECODING = 0.25  # seconds of the processor for one request; an honest answer takes 0.01

SnmpRows = dict[str, dict[str, Any]]  # by index, then by column


async def read(door: Door) -> None:
    """Take in what the tables tell. Raises ReadProblem."""
    host, how = door.device.host or "", door.setup.snmp.get(door.device.name, Snmp())
    account = _account(how, host, door)
    asker = door.setup.shared.get(_Asker.name)
    if not isinstance(asker, _Asker):
        asker = door.setup.shared[_Asker.name] = _Asker()
    answers = await asker.ask(host, how.port, account)
    for fills, row in told_of(_components(answers.entity)):
        door.interview.adds("snmp", fills, [row])
    described = door.interview.reading.described
    facts: dict[str, Any] = _described(_text(answers.description), described)
    if isinstance(answers.memory, int) and answers.memory > 0:
        facts["hardware.memory"] = answers.memory * 1024
    if isinstance(answers.date, bytes) and (clock := clock_of(answers.date)) is not None:
        facts["clock"] = clock.isoformat()
    if facts:
        door.interview.adds("snmp", "device", [facts])
    names = door.interview.reading.storage
    volumes = list(_volumes(answers.storage, names))
    if volumes:
        door.interview.adds("snmp", "volume", volumes)
    if not answers.entity and not answers.storage:
        text = "both tables that were asked for are empty"
        raise ReadProblem("reading by SNMP", text, "Check which views the account may read")


class _Told(Struct, frozen=True, kw_only=True):
    """What a device told."""

    entity: SnmpRows
    storage: SnmpRows
    memory: Any
    date: Any
    description: Any


class _Asker:
    """Asks devices in a thread, and an event loop, of its own: no other device waits for it.

    What a device sends is decoded there. The library's engine takes a quarter of a second to make:
    there is one for each account, and a socket for each device.
    """

    name = "snmp"

    def __init__(self) -> None:
        self._loop = asyncio.new_event_loop()
        hush(self._loop)
        self._engines: dict[_Account, Any] = {}
        self._numbers = count(1)
        threading.Thread(target=self._loop.run_forever, daemon=True).start()

    async def ask(self, host: str, port: int, account: "_Account") -> _Told:
        """Ask one device for all that is read. Raises ReadProblem."""
        asked = asyncio.run_coroutine_threadsafe(self._all(host, port, account), self._loop)
        return await asyncio.wrap_future(asked)

    def close(self) -> None:
        """Nobody is asked any more; who still waits lets go of its socket first."""
        asyncio.run_coroutine_threadsafe(self._end(), self._loop)

    async def _end(self) -> None:
        waiting = asyncio.all_tasks() - {asyncio.current_task()}
        for task in waiting:
            task.cancel()
        await asyncio.gather(*waiting, return_exceptions=True)
        self._loop.stop()

    async def _all(self, host: str, port: int, account: "_Account") -> _Told:
        try:
            from pysnmp.hlapi.v3arch import asyncio as api
        except ImportError:
            do = "pip install 'ovek[snmp]'"
            raise ReadProblem("reading by SNMP", "pysnmp is not installed", do) from None
        try:
            target = await _target(api, host, port)
        except Exception as error:  # what the library makes of a name that is none
            met = plain(str(error)) or type(error).__name__
            raise ReadProblem(f"looking up {host}", met, "Fix `host` in fleet.toml") from None
        if account not in self._engines:
            self._engines[account] = api.SnmpEngine()
        target.TRANSPORT_DOMAIN += (next(self._numbers),)  # a socket of its own
        talk = _Talk(api, self._engines[account], account.auth(api), target)
        try:
            return _Told(
                entity=await talk.table(_ENTITY),
                storage=await talk.table(_STORAGE),
                memory=await talk.get(_MEMORY),
                date=await talk.get(_DATE),
                description=await talk.get(_DESCRIPTION),
            )
        finally:
            talk.close()


class _Account(Struct, frozen=True, kw_only=True):
    """Who asks: a community, or a user with the names and secrets of two protocols."""

    community: str | None = None
    user: str = ""
    digest: str | None = None
    key: str | None = None
    cipher: str | None = None
    cipher_key: str | None = None

    def auth(self, api: Any) -> Any:
        """As the library has it."""
        if self.community is not None:
            return api.CommunityData(self.community, mpModel=1)
        keys = dict[str, Any]()
        if self.digest is not None:
            keys |= {"authKey": self.key, "authProtocol": getattr(api, self.digest)}
        if self.cipher is not None:
            keys |= {"privKey": self.cipher_key, "privProtocol": getattr(api, self.cipher)}
        return api.UsmUserData(self.user, **keys)


class _Guard:
    """What a device may send: where from, how long, how much, and how long it takes to decode.

    `spent` are the seconds of the processor on answers to the request that waits now.
    """

    def __init__(self, peer: Any) -> None:
        self.peer = tuple(peer)
        self.spent, self.dropped = 0.0, 0
        self.flooded = asyncio.Event()

    def asks(self) -> None:
        """A request begins."""
        self.spent = 0.0

    def takes(self, datagram: bytes, source: Any) -> bool:
        """Whether a datagram is decoded."""
        if self.flooded.is_set():
            return False
        if tuple(source) == self.peer and len(datagram) <= _LONGEST_ANSWER:
            return True
        self.dropped += 1
        if self.dropped > _MOST_DROPPED:
            self.flooded.set()
        return False

    def decode(self, work: Callable[[], None]) -> None:
        """Have a datagram decoded, one device after another: the others keep half of the time."""
        with TURN:
            began = time.thread_time()
            with suppress(Exception):  # it is no answer: the request goes on waiting
                work()
            self.spent += time.thread_time() - began
        if self.spent > _LONGEST_DECODING:
            self.flooded.set()


def _guarded(kind: type, guard: _Guard) -> type:
    """A transport that is open to one address only, and decodes what the guard takes."""

    class Guarded(kind):  # type: ignore[misc]
        def open_client_mode(self, iface: Any = None, allow_broadcast: bool = False) -> Any:
            opening = self.loop.create_datagram_endpoint(
                lambda: self, family=self.SOCK_FAMILY, remote_addr=guard.peer[:2]
            )
            self._lport = asyncio.ensure_future(opening)
            return self

        def datagram_received(self, datagram: bytes, source: Any) -> None:
            if guard.takes(datagram, source):
                guard.decode(lambda: self._callback_function(self, source, datagram))
            if guard.flooded.is_set() and self.transport is not None:
                self.transport.abort()

        def error_received(self, error: OSError) -> None:
            """Nothing listens there: the request waits for its time, as for any answer."""

    return Guarded


class _Talk:
    """One device being asked."""

    def __init__(self, api: Any, engine: Any, auth: Any, target: Any) -> None:
        self._api, self._engine, self._auth, self._target = api, engine, auth, target
        self._guard = _Guard(target.transport_address)
        target.PROTO_TRANSPORT = _guarded(target.PROTO_TRANSPORT, self._guard)
        self._rows = 0

    async def get(self, name: str) -> Any:
        """One value; None where the device has none."""
        values = await self._asked(self._api.get_cmd, name)
        return _plain(values[0][1]) if values else None

    async def table(self, entry: str) -> SnmpRows:
        """All rows of a table, by index; a column that is not asked for is left out."""
        rows, last, front = SnmpRows(), entry, f"{entry}."
        while values := await self._asked(self._api.bulk_cmd, last, 0, _AT_ONCE):
            for name, value in values:
                index_name = str(name)
                if not index_name.startswith(front) or (_plain(value) is None and _is_end(value)):
                    return rows
                if _numbers(index_name) <= _numbers(last):
                    text = "its tables repeat without end"
                    raise ReadProblem("reading by SNMP", text, "Check what the device runs")
                last = index_name
                self._rows += 1
                if self._rows > _MOST_ROWS:
                    text = f"its tables have over {_MOST_ROWS} values"
                    raise ReadProblem("reading by SNMP", text, "Limit what the account may read")
                column, _, index = index_name[len(front) :].partition(".")
                rows.setdefault(index, {})[column] = _plain(value)
        return rows

    async def _asked(self, command: Callable[..., Any], name: str, *numbers: int) -> list[Any]:
        """The values that one request brings; none where the device refuses it."""
        api, guard = self._api, self._guard
        guard.asks()
        about = api.ObjectType(api.ObjectIdentity(name))
        context = api.ContextData()
        asking = asyncio.ensure_future(
            command(
                self._engine, self._auth, self._target, context, *numbers, about, lookupMib=False
            )
        )
        flooded = asyncio.ensure_future(guard.flooded.wait())
        try:
            await asyncio.wait({asking, flooded}, return_when=asyncio.FIRST_COMPLETED)
            if not asking.done():
                raise _too_much()
            failed, status, _, values = asking.result()
        finally:
            asking.cancel()
            flooded.cancel()
        self._check(failed)
        if len(values) > _AT_ONCE:
            raise _too_much()
        return [] if status else list(values)

    def _check(self, failed: Any) -> None:
        """Raise ReadProblem where the other side did not answer, or does not let us in."""
        if failed is None:
            return
        told = plain(str(failed))
        silent = "timeout" in type(failed).__name__.lower()
        do = "Check that it is up and allows SNMP from this machine"
        if not silent:
            do = "Check snmp in fleet.toml, and its secrets in the environment or the keyring"
        raise ReadProblem("reading by SNMP", told, do, passing=silent)

    def close(self) -> None:
        """Let go of the socket."""
        dispatcher, domain = self._engine.transport_dispatcher, self._target.TRANSPORT_DOMAIN
        if self._target.transport is not None:
            dispatcher.unregister_transport(domain)
            self._target.transport.close_transport()


def _too_much() -> ReadProblem:
    text = "the device sends more data than was asked for"
    return ReadProblem(
        "reading by SNMP", text, "Check what the device runs, or who answers in its place"
    )


def _is_end(value: Any) -> bool:
    """Whether a table ends here."""
    return type(value).__name__ == "EndOfMibView"


def _numbers(name: str) -> list[int]:
    """An object's name as numbers, in whose order tables are told."""
    return [int(each) for each in name.split(".")]


async def _target(api: Any, host: str, port: int) -> Any:
    kind = api.Udp6TransportTarget if ":" in host else api.UdpTransportTarget
    return await kind.create((host, port), timeout=_WAIT, retries=_TIMES)


def _account(how: Snmp, host: str, door: Door) -> _Account:
    """Who asks a device. Raises ReadProblem where a secret is not told."""
    secrets = door.setup.secrets
    if how.version == "2c":
        community = secrets.named("OVEK_SNMP_COMMUNITY", f"snmp@{host}")
        if community is None:
            raise _missing("community", "OVEK_SNMP_COMMUNITY", f"snmp@{host}")
        return _Account(community=community)
    account = _Account(user=how.user or door.user or "")
    if how.auth != "none":
        secret = secrets.named("OVEK_SNMP_AUTH", f"snmp-auth:{account.user}@{host}")
        if secret is None:
            raise _missing("password", "OVEK_SNMP_AUTH", f"snmp-auth:{account.user}@{host}")
        account = replace(account, digest=_AUTH[how.auth], key=secret)
    if how.privacy != "none":
        entry = f"snmp-privacy:{account.user}@{host}"
        secret = secrets.named("OVEK_SNMP_PRIVACY", entry)
        if secret is None:
            raise _missing("privacy password", "OVEK_SNMP_PRIVACY", entry)
        account = replace(account, cipher=_PRIVACY[how.privacy], cipher_key=secret)
    return account


_AUTH = {
    "md5": "USM_AUTH_HMAC96_MD5",
    "sha1": "USM_AUTH_HMAC96_SHA",
    "sha256": "USM_AUTH_HMAC192_SHA256",
    "sha512": "USM_AUTH_HMAC384_SHA512",
}
_PRIVACY = {"des": "USM_PRIV_CBC56_DES", "aes128": "USM_PRIV_CFB128_AES",
            "aes256": "USM_PRIV_CFB256_AES"}  # fmt: skip


def _missing(what: str, variable: str, entry: str) -> ReadProblem:
    do = f"Put it into {variable}, or into the keyring as {entry}"
    return ReadProblem("reading by SNMP", f"its {what} is unknown", do)


def _plain(value: Any) -> Any:
    """A value as Python has it: a number, bytes, the text of an identifier; None for none."""
    kind = type(value).__name__
    if kind in ("NoSuchObject", "NoSuchInstance", "EndOfMibView", "Null"):
        return None
    if kind == "ObjectIdentifier":
        return str(value)
    if hasattr(value, "asOctets"):
        return bytes(value.asOctets())[:_LONGEST]
    try:
        return int(value)
    except (TypeError, ValueError):
        return None


def _text(value: Any) -> str | None:
    """A text of a table; None where it is empty."""
    if not isinstance(value, bytes):
        return None
    return plain(value.decode("utf-8", "replace")).strip() or None


def _number(value: Any) -> int | None:
    return value if isinstance(value, int) and value >= 0 else None


def _components(rows: SnmpRows) -> list[EntityComponent]:
    """The rows of entPhysicalTable as components."""
    return [
        EntityComponent(
            id=index,
            kind=_KINDS.get(str(row.get("5")), "other"),
            name=_text(row.get("7")) or _text(row.get("2")) or index,
            inside=str(row["4"]) if row.get("4") else None,
            position=_number(row.get("6")),
            model=_text(row.get("13")),
            serial=_text(row.get("11")),
            hardware=_text(row.get("8")),
            firmware=_text(row.get("9")),
            software=_text(row.get("10")),
        )
        for index, row in rows.items()
    ]


def _described(description: str | None, pattern: str | None) -> dict[str, Any]:
    """What a device says of itself in words, as its sheet reads them."""
    if description is None or pattern is None:
        return {}
    found = compiled(pattern).search(description)
    told = found.groupdict() if found is not None else {}
    return {DESCRIBED[name]: text.strip() for name, text in told.items() if text and text.strip()}


def _volumes(rows: SnmpRows, names: Mapping[str, str]) -> list[dict[str, Any]]:
    """The rows of hrStorageTable that are disks, by the names that the sheet gives them."""
    found = []
    for row in rows.values():
        described = _text(row.get("3"))
        removable = _DISKS.get(str(row.get("2")))
        if described is None or (removable is None and described not in names):
            continue
        if names and described not in names:
            continue
        volume: dict[str, Any] = {"volume": names.get(described, described.rstrip(":"))}
        unit, size, used = (_number(row.get(each)) for each in ("4", "5", "6"))
        if unit and size is not None:
            volume["capacity"] = unit * size
            if used is not None and used <= size:
                volume["free"] = unit * (size - used)
        if removable is not None:
            volume["removable"] = removable
        found.append(volume)
    return found


def clock_of(date: bytes) -> datetime | None:
    """A DateAndTime (RFC 2579): 8 octets, or 11 with the zone; None where it is no time.

    >>> clock_of(bytes([0x07, 0xEA, 11, 26, 10, 30, 0, 0, 43, 1, 0])).isoformat()
    '2026-11-26T10:30:00+01:00'
    """
    if len(date) not in (8, 11):
        return None
    year, month, day, hour, minute, second = int.from_bytes(date[:2], "big"), *date[2:7]
    try:
        zone: tzinfo = UTC
        if len(date) == 11:
            apart = timedelta(hours=date[9], minutes=date[10])
            zone = timezone(-apart if date[8:9] == b"-" else apart)
        return datetime(year, month, day, hour, minute, min(second, 59), tzinfo=zone)
    except (ValueError, OverflowError):
        return None
