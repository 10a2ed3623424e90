"""By SNMP, v2c (RFC 3416) and v3 (RFC 3414): entities, storage, memory and the clock.

Only Get and GetBulk are sent. The tables are ENTITY-MIB (RFC 6933) and HOST-RESOURCES-MIB
(RFC 2790). What a table does not hold stays not known.
"""

from collections.abc import Mapping
from datetime import UTC, datetime, timedelta, timezone, tzinfo
from typing import Any

from ovek.model.fleet import Snmp
from ovek.model.pattern import compiled
from ovek.model.sheet import DESCRIBED
from ovek.sources.clean import plain
from ovek.sources.entities import Component, told_of
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

Rows = dict[str, dict[str, Any]]  # by index, then by column


async def read(door: Door) -> None:
    """Take in what the tables tell. Raises ReadProblem."""
    talk = await _Talk.begin(door)
    try:
        entity = await talk.table(_ENTITY)
        storage = await talk.table(_STORAGE)
        memory, date = await talk.get(_MEMORY), await talk.get(_DATE)
        description = await talk.get(_DESCRIPTION)
    finally:
        talk.close()
    for fills, row in told_of(_components(entity)):
        door.interview.adds("snmp", fills, [row])
    told: dict[str, Any] = _described(_text(description), door.interview.reading.described)
    if isinstance(memory, int) and memory > 0:
        told["hardware.memory"] = memory * 1024
    if isinstance(date, bytes) and (clock := clock_of(date)) is not None:
        told["clock"] = clock.isoformat()
    if told:
        door.interview.adds("snmp", "device", [told])
    names = door.interview.reading.storage
    volumes = list(_volumes(storage, names))
    if volumes:
        door.interview.adds("snmp", "volume", volumes)
    if not entity and not storage:
        met = "neither of the tables that it is asked for holds anything"
        raise ReadProblem("reading by SNMP", met, "See which views the account may read")


class _Talk:
    """One device being asked."""

    def __init__(self, api: Any, engine: Any, auth: Any, target: Any) -> None:
        self._api, self._engine, self._auth, self._target = api, engine, auth, target
        self._rows = 0

    @classmethod
    async def begin(cls, door: Door) -> "_Talk":
        """Make ready to ask; raises ReadProblem."""
        try:
            from pysnmp.hlapi.v3arch import asyncio as api
        except ImportError:
            do = "pip install 'ovek[snmp]'"
            raise ReadProblem("reading by SNMP", "pysnmp is not installed", do) from None
        host, how = door.device.host or "", door.setup.snmp.get(door.device.name, Snmp())
        auth = _auth(api, how, host, door)
        try:
            target = await _target(api, host, how.port)
        except Exception as error:  # what the library makes of a name that is none
            met = plain(str(error)) or type(error).__name__
            raise ReadProblem(f"looking up {host}", met, "Mend host in fleet.toml") from None
        return cls(api, api.SnmpEngine(), auth, target)

    async def get(self, name: str) -> Any:
        """One value; None where the device has none."""
        api = self._api
        failed, status, _, found = await api.get_cmd(
            self._engine,
            self._auth,
            self._target,
            api.ContextData(),
            api.ObjectType(api.ObjectIdentity(name)),
            lookupMib=False,
        )
        self._check(failed)
        if status or not found:
            return None
        return _plain(found[0][1])

    async def table(self, entry: str) -> Rows:
        """All rows of a table, by index; a column that is not asked for is left out."""
        api, rows = self._api, Rows()
        async for failed, status, _, found in api.bulk_walk_cmd(
            self._engine,
            self._auth,
            self._target,
            api.ContextData(),
            0,
            20,
            api.ObjectType(api.ObjectIdentity(entry)),
            lookupMib=False,
            lexicographicMode=False,
        ):
            self._check(failed)
            if status:
                break
            for name, value in found:
                self._rows += 1
                if self._rows > _MOST_ROWS:
                    met = f"its tables have over {_MOST_ROWS} values"
                    raise ReadProblem("reading by SNMP", met, "Narrow what the account may read")
                told = str(name)
                if told.startswith(f"{entry}."):
                    column, _, index = told[len(entry) + 1 :].partition(".")
                    rows.setdefault(index, {})[column] = _plain(value)
        return rows

    def _check(self, failed: Any) -> None:
        """Raise ReadProblem where the other side did not answer, or does not let us in."""
        if failed is None:
            return
        told = plain(str(failed))
        silent = "timeout" in type(failed).__name__.lower()
        do = "See if it is up, and whether it lets this machine ask"
        if not silent:
            do = "Check snmp in fleet.toml, and its secrets in the environment or the keyring"
        raise ReadProblem("reading by SNMP", told, do, passing=silent)

    def close(self) -> None:
        """Let go of the port."""
        self._engine.close_dispatcher()


async def _target(api: Any, host: str, port: int) -> Any:
    kind = api.Udp6TransportTarget if ":" in host else api.UdpTransportTarget
    return await kind.create((host, port), timeout=_WAIT, retries=_TIMES)


def _auth(api: Any, how: Snmp, host: str, door: Door) -> Any:
    """Who asks. Raises ReadProblem where a secret is not told."""
    secrets = door.setup.secrets
    if how.version == "2c":
        community = secrets.named("OVEK_SNMP_COMMUNITY", f"snmp@{host}")
        if community is None:
            raise _missing("community", "OVEK_SNMP_COMMUNITY", f"snmp@{host}")
        return api.CommunityData(community, mpModel=1)
    user, keys = how.user or door.user or "", dict[str, Any]()
    if how.auth != "none":
        secret = secrets.named("OVEK_SNMP_AUTH", f"snmp-auth:{user}@{host}")
        if secret is None:
            raise _missing("password", "OVEK_SNMP_AUTH", f"snmp-auth:{user}@{host}")
        keys |= {"authKey": secret, "authProtocol": getattr(api, _AUTH[how.auth])}
    if how.privacy != "none":
        secret = secrets.named("OVEK_SNMP_PRIVACY", f"snmp-privacy:{user}@{host}")
        if secret is None:
            raise _missing("privacy password", "OVEK_SNMP_PRIVACY", f"snmp-privacy:{user}@{host}")
        keys |= {"privKey": secret, "privProtocol": getattr(api, _PRIVACY[how.privacy])}
    return api.UsmUserData(user, **keys)


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
    return ReadProblem("reading by SNMP", f"its {what} is not told", do)


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


def _components(rows: Rows) -> list[Component]:
    """The rows of entPhysicalTable as components."""
    return [
        Component(
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


def _volumes(rows: Rows, names: Mapping[str, str]) -> list[dict[str, Any]]:
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
