"""The store of what was: readings of devices over time, in SQLite or PostgreSQL.

1. A reading is one line of a snapshot. Its facts are kept as spans: from the first reading that
   told a fact to the last; `last` is empty while the newest reading of the device tells it still.
   So a night in which nothing changed costs a row a device.
2. Readings may be added in any order, each once; what comes of it is the same.
3. Beside the readings stand the files by which they were judged (catalog, policy, waivers, sheets,
   fleet), whenever one changed: what was known when.
4. A snapshot is added whole or not at all. A store that cannot be read is put aside and made anew
   from the snapshots that are there; one of a newer version is refused.

Times are whole seconds since 1970 UTC; texts are kept once.
"""

import hashlib
import os
import zlib
from collections.abc import Iterable, Iterator, Mapping
from contextlib import contextmanager, suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, NamedTuple

import msgspec
import sqlalchemy as sa
from sqlalchemy.engine import Connection, Engine
from sqlalchemy.exc import DatabaseError, OperationalError, SQLAlchemyError

from ovek.files.errors import DamagedError, InputError
from ovek.files.safe_open import check_regular, opened
from ovek.model.history import FACT_KINDS, FACT_VALUES, Fact, Span, StoreState
from ovek.model.stretches import Beside, Stretch, merged

FILE = "history.db"
_LONGEST = 2**16  # characters of a fact
_MOST_KNOWN = 2**28  # bytes of a file that was known
# What a value makes of the code that reads it, where it is none that was written here.
_READ_WRONG = (
    ValueError, TypeError, LookupError, OverflowError, zlib.error, msgspec.MsgspecError,
)  # fmt: skip
# What SQLite says of a file that is no database, or was edited.
_DAMAGE = (
    "not a database", "malformed", "disk image", "no such table", "no such column",
    "has no column", "Could not decode", "datatype mismatch", "constraint failed",
)  # fmt: skip
PASSWORD = "OVEK_HISTORY_PASSWORD"  # noqa: S105 - the name of a variable
VERSION = 1
_LOCK = 0x6F76656B  # of PostgreSQL's advisory locks, one for each store
_MANY = 500  # values in one question

_META = sa.MetaData()
_ABOUT = sa.Table(
    "about", _META, sa.Column("name", sa.String(40), primary_key=True), sa.Column("value", sa.Text)
)
_TEXT = sa.Table(
    "text", _META,
    sa.Column("id", sa.Integer, primary_key=True),
    sa.Column("sha256", sa.String(64), unique=True, nullable=False),
    sa.Column("value", sa.Text, nullable=False),
)  # fmt: skip
_DEVICE = sa.Table(
    "device", _META,
    sa.Column("id", sa.Integer, primary_key=True),
    sa.Column("name", sa.String(400), unique=True, nullable=False),
    sa.Column("newest", sa.BigInteger),
)  # fmt: skip
_SNAPSHOT = sa.Table(
    "snapshot", _META,
    sa.Column("id", sa.Integer, primary_key=True),
    sa.Column("name", sa.String(400), nullable=False),
    sa.Column("sha256", sa.String(64), unique=True, nullable=False),
    sa.Column("size", sa.BigInteger, nullable=False),
    sa.Column("changed", sa.BigInteger, nullable=False),
    sa.Column("added_at", sa.BigInteger, nullable=False),
)  # fmt: skip
_READING = sa.Table(
    "reading", _META,
    sa.Column("device", sa.ForeignKey("device.id"), primary_key=True),
    sa.Column("taken_at", sa.BigInteger, primary_key=True),
    sa.Column("snapshot", sa.ForeignKey("snapshot.id"), nullable=False),
    sqlite_with_rowid=False,
)  # fmt: skip
_SPAN = sa.Table(
    "span", _META,
    sa.Column("id", sa.Integer, primary_key=True),
    sa.Column("device", sa.ForeignKey("device.id"), nullable=False),
    sa.Column("kind", sa.SmallInteger, nullable=False),
    sa.Column("member", sa.String(100), nullable=False),
    sa.Column("key", sa.ForeignKey("text.id"), nullable=False),
    sa.Column("value", sa.ForeignKey("text.id"), nullable=False),
    sa.Column("first", sa.BigInteger, nullable=False),
    sa.Column("last", sa.BigInteger),
    sa.Index("span_by_device", "device"),
    sa.Index("span_by_kind", "kind"),
)  # fmt: skip
_KNOWN = sa.Table(
    "known", _META,
    sa.Column("id", sa.Integer, primary_key=True),
    sa.Column("at", sa.BigInteger, nullable=False),
    sa.Column("name", sa.String(400), nullable=False),
    sa.Column("sha256", sa.String(64)),  # none: the file was removed
)  # fmt: skip
_CONTENT = sa.Table(
    "content", _META,
    sa.Column("sha256", sa.String(64), primary_key=True),
    sa.Column("data", sa.LargeBinary, nullable=False),
)  # fmt: skip


class StoredReading(NamedTuple):
    """One device at one time, and what was so then."""

    device: str
    taken_at: datetime
    facts: frozenset[Fact]


class HistoryStore:
    """One store; `url` is SQLAlchemy's. Raises InputError, with what to do, in every method.

    `own` is whether it is the site's own file, at `where`: damaged, it can be built again.
    """

    def __init__(self, url: str, where: str, *, own: bool = False) -> None:
        self.where, self._file = where, own
        self._engine = _engine(url)
        self._texts: dict[str, int] = {}
        with self._telling():
            self._prepare()

    def close(self) -> None:
        """Let go of the database."""
        self._engine.dispose()

    @contextmanager
    def _telling(self) -> Iterator[None]:
        """Tell an error of the database as one that a person can act on."""
        try:
            yield
        except SQLAlchemyError as error:
            raise _told(self.where, error, file=self._file) from None
        except _READ_WRONG as error:  # a value that nothing here has written
            why = f"a value is not valid ({type(error).__name__}: {error})"
            raise _damaged(self.where, why, file=self._file) from None

    def _prepare(self) -> None:
        with self._engine.connect() as connection:
            there = sa.inspect(connection).has_table("about")
            version = int(_about(connection, "version") or 0) if there else 0
        if version > VERSION:
            text = f"is a history of version {version}; this Ovek knows {VERSION}"
            raise InputError(self.where, text, "Use a newer Ovek, or another store")
        if version == VERSION:
            with self._engine.connect() as connection:
                long = sa.select(_TEXT.c.id).where(sa.func.length(_TEXT.c.value) > _LONGEST)
                if connection.execute(long.limit(1)).first() is not None:
                    raise ValueError("a string that is too long")
            return
        with self._writing() as connection:  # migrations stand here, in their order
            _META.create_all(connection)
            if _about(connection, "version") is None:
                connection.execute(_ABOUT.insert().values(name="version", value=str(VERSION)))

    @contextmanager
    def _writing(self) -> Iterator[Connection]:
        """One transaction that nobody else writes in."""
        with self._engine.connect() as connection:
            sqlite = self._engine.dialect.name == "sqlite"
            connection.exec_driver_sql("BEGIN IMMEDIATE" if sqlite else "BEGIN")
            if not sqlite:
                connection.execute(sa.select(sa.func.pg_advisory_xact_lock(_LOCK)))
            try:
                yield connection
            except BaseException:
                self._texts.clear()
                connection.exec_driver_sql("ROLLBACK")
                raise
            connection.exec_driver_sql("COMMIT")

    # ---- writing -----------------------------------------------------------------------------

    def holds(self, files: Iterable[Path]) -> set[Path]:
        """Those snapshots that are in the store as they lie there, by name, size and time."""
        with self._telling(), self._engine.connect() as connection:
            rows = connection.execute(
                sa.select(_SNAPSHOT.c.name, _SNAPSHOT.c.size, _SNAPSHOT.c.changed)
            )
            known = {tuple(row) for row in rows}
        held = set[Path]()
        for file in files:
            try:
                stat = file.stat()
            except OSError:
                continue
            if (file.name, stat.st_size, stat.st_mtime_ns) in known:
                held.add(file)
        return held

    def add(self, file: Path, readings: Iterable[StoredReading], now: datetime) -> int:
        """Add the readings of one snapshot; how many were not there yet. All of them, or none."""
        stat, sha256 = file.stat(), _sha256(file)
        with self._telling(), self._writing() as connection:
            known = connection.execute(
                sa.select(_SNAPSHOT.c.id).where(_SNAPSHOT.c.sha256 == sha256)
            ).scalar()
            facts = {"name": file.name, "size": stat.st_size, "changed": stat.st_mtime_ns}
            if known is not None:
                connection.execute(
                    _SNAPSHOT.update().where(_SNAPSHOT.c.id == known).values(**facts)
                )
                return 0
            new = connection.execute(
                _SNAPSHOT.insert().values(**facts, sha256=sha256, added_at=_seconds(now))
            )
            assert new.inserted_primary_key is not None
            snapshot = new.inserted_primary_key[0]
            return sum(self._add_reading(connection, snapshot, one) for one in _theirs(readings))

    def _add_reading(self, connection: Connection, snapshot: int, reading: StoredReading) -> bool:
        """Add one reading; whether it was not there yet."""
        at = _seconds(reading.taken_at)
        row = connection.execute(
            sa.select(_DEVICE.c.id, _DEVICE.c.newest).where(_DEVICE.c.name == reading.device)
        ).one_or_none()
        if row is None:
            made = connection.execute(_DEVICE.insert().values(name=reading.device))
            assert made.inserted_primary_key is not None
            device, newest = made.inserted_primary_key[0], None
        else:
            device, newest = row
        ours = _READING.c.device == device
        if newest is None or at > newest:
            before, behind = newest, None
        else:
            there = connection.execute(
                sa.select(_READING.c.taken_at).where(ours, _READING.c.taken_at == at)
            ).scalar()
            if there is not None:
                return False
            before = connection.execute(
                sa.select(sa.func.max(_READING.c.taken_at)).where(ours, _READING.c.taken_at < at)
            ).scalar()
            behind = connection.execute(
                sa.select(sa.func.min(_READING.c.taken_at)).where(ours, _READING.c.taken_at > at)
            ).scalar()
        connection.execute(_READING.insert().values(device=device, taken_at=at, snapshot=snapshot))
        if behind is None:
            connection.execute(_DEVICE.update().where(_DEVICE.c.id == device).values(newest=at))
        beside = Beside(at, before, behind, newest)
        self._put(connection, device, reading.facts, beside)
        return True

    def _put(
        self, connection: Connection, device: int, facts: frozenset[Fact], beside: Beside
    ) -> None:
        """Fit the facts of a reading between those before and behind it.

        A fact of over 64 KiB is left out: a name of that length is an attack, and no name.
        """
        facts = frozenset(each for each in facts if len(each.key) + len(each.value) <= _LONGEST)
        ids = self._ids(connection, facts)
        wanted = frozenset(
            (FACT_KINDS.index(fact.kind), fact.member, ids[fact.key], ids[fact.value])
            for fact in facts
        )
        near = [_SPAN.c.device == device]
        if beside.behind is None:
            near.append(_SPAN.c.last.is_(None))  # only what is so still can go on or end
        rows = connection.execute(
            sa.select(
                _SPAN.c.id, _SPAN.c.kind, _SPAN.c.member, _SPAN.c.key, _SPAN.c.value,
                _SPAN.c.first, _SPAN.c.last,
            ).where(*near)
        ).all()  # fmt: skip
        kept = {Stretch(tuple(row[1:5]), row[5], row[6]): row[0] for row in rows}
        gone, new = merged(kept, wanted, beside)
        for few in _few([kept[one] for one in gone]):
            connection.execute(_SPAN.delete().where(_SPAN.c.id.in_(few)))
        if new:
            connection.execute(_SPAN.insert(), [_row(device, one) for one in new])

    def _ids(self, connection: Connection, facts: Iterable[Fact]) -> Mapping[str, int]:
        """The numbers under which texts are kept; new ones are added."""
        wanted = {text for fact in facts for text in (fact.key, fact.value)} - self._texts.keys()
        hashes = {hashlib.sha256(text.encode()).hexdigest(): text for text in wanted}
        for few in _few(list(hashes)):
            rows = connection.execute(
                sa.select(_TEXT.c.id, _TEXT.c.sha256).where(_TEXT.c.sha256.in_(few))
            )
            for id_, sha256 in rows:
                self._texts[hashes.pop(sha256)] = id_
        for sha256, text in hashes.items():
            made = connection.execute(_TEXT.insert().values(sha256=sha256, value=_safe(text)))
            assert made.inserted_primary_key is not None
            self._texts[text] = made.inserted_primary_key[0]
        return self._texts

    def mark(self, files: Mapping[str, bytes], now: datetime) -> list[str]:
        """Keep what is known now, where it is not what was known before; the names that changed."""
        with self._telling():
            hashes = {name: hashlib.sha256(data).hexdigest() for name, data in files.items()}
            if self._known(None) == hashes:
                return []
            with self._writing() as connection:
                before = self._known_in(connection, None)
                changed = sorted(
                    name for name in {*before, *hashes} if before.get(name) != hashes.get(name)
                )
                for name in changed:
                    sha256 = hashes.get(name)
                    there = sa.select(_CONTENT.c.sha256).where(_CONTENT.c.sha256 == sha256)
                    if sha256 is not None and connection.execute(there).scalar() is None:
                        data = zlib.compress(files[name])
                        connection.execute(_CONTENT.insert().values(sha256=sha256, data=data))
                    connection.execute(
                        _KNOWN.insert().values(at=_seconds(now), name=name, sha256=sha256)
                    )
                return changed

    def purge(self, until: datetime, *, look: bool) -> tuple[int, int]:
        """Remove what ended before a time; how many readings and spans. `look`: only count."""
        limit = _seconds(until)
        with self._telling(), self._writing() as connection:
            newest = sa.select(_DEVICE.c.newest).where(_DEVICE.c.newest.is_not(None))
            old_readings = sa.and_(
                _READING.c.taken_at < limit,
                _READING.c.taken_at.not_in(newest),
            )
            old_spans = _SPAN.c.last < limit
            counts = tuple(
                connection.execute(sa.select(sa.func.count()).select_from(table).where(which))
                .scalar_one()
                for table, which in ((_READING, old_readings), (_SPAN, old_spans))
            )  # fmt: skip
            if not look:
                connection.execute(_READING.delete().where(old_readings))
                connection.execute(_SPAN.delete().where(old_spans))
                first = (
                    sa.select(sa.func.min(_READING.c.taken_at))
                    .where(_READING.c.device == _SPAN.c.device)
                    .scalar_subquery()
                )
                connection.execute(_SPAN.update().where(_SPAN.c.first < first).values(first=first))
            return counts[0], counts[1]

    @contextmanager
    def claims(self) -> Iterator["StoredClaims | None"]:
        """Locks on devices, which end with the connection; None where the store is a file."""
        if self._engine.dialect.name == "sqlite":
            yield None
            return
        with self._telling():
            connection = self._engine.connect()
            connection.detach()  # the locks end with it: it goes back to no pool
        try:
            yield StoredClaims(connection)
        finally:
            # A server that notices the end a little later holds up nobody until then.
            with suppress(SQLAlchemyError):
                connection.execute(sa.select(sa.func.pg_advisory_unlock_all()))
            connection.close()

    # ---- reading -----------------------------------------------------------------------------

    def state(self) -> StoreState:
        """What the store holds."""
        with self._telling(), self._engine.connect() as connection:
            numbers = [
                connection.execute(sa.select(sa.func.count()).select_from(table)).scalar_one()
                for table in (_SNAPSHOT, _READING, _DEVICE)
            ]
            first, last = connection.execute(
                sa.select(sa.func.min(_READING.c.taken_at), sa.func.max(_READING.c.taken_at))
            ).one()
            return StoreState(
                where=self.where,
                snapshots=numbers[0],
                readings=numbers[1],
                devices=numbers[2],
                first=_time(first),
                last=_time(last),
            )

    def devices(self) -> list[str]:
        """The names of all devices that were ever read."""
        with self._telling(), self._engine.connect() as connection:
            return list(connection.execute(sa.select(_DEVICE.c.name)).scalars())

    def readings(self, device: str) -> list[datetime]:
        """When one device was read, the first time first."""
        with self._telling(), self._engine.connect() as connection:
            rows = connection.execute(
                sa.select(_READING.c.taken_at)
                .join(_DEVICE, _DEVICE.c.id == _READING.c.device)
                .where(_DEVICE.c.name == device)
                .order_by(_READING.c.taken_at)
            ).scalars()
            return [datetime.fromtimestamp(at, UTC) for at in rows]

    def last_readings(self) -> dict[str, datetime]:
        """When each device was read last."""
        question = (
            sa.select(_DEVICE.c.name, sa.func.max(_READING.c.taken_at))
            .join(_DEVICE, _DEVICE.c.id == _READING.c.device)
            .group_by(_DEVICE.c.name)
        )
        with self._telling(), self._engine.connect() as connection:
            return {
                name: datetime.fromtimestamp(at, UTC) for name, at in connection.execute(question)
            }

    def spans(
        self,
        *kinds: str,
        device: str | None = None,
        like: Iterable[str] = (),
    ) -> list[tuple[str, Span]]:
        """The spans of some kinds (all where none is named), each with its device.

        `like` are texts of which the key or the value has to contain one.
        """
        key, value = _TEXT.alias("key_text"), _TEXT.alias("value_text")
        which: list[Any] = []
        if kinds:
            which.append(_SPAN.c.kind.in_([FACT_KINDS.index(kind) for kind in kinds]))
        if device is not None:
            which.append(_DEVICE.c.name == device)
        wanted = list(like)
        if wanted:
            holds = sa.or_(*(_TEXT.c.value.contains(text, autoescape=True) for text in wanted))
            texts = sa.select(_TEXT.c.id).where(holds)
            which.append(sa.or_(_SPAN.c.key.in_(texts), _SPAN.c.value.in_(texts)))
        ended = (
            sa.select(sa.func.min(_READING.c.taken_at))
            .where(_READING.c.device == _SPAN.c.device, _READING.c.taken_at > _SPAN.c.last)
            .scalar_subquery()
        )
        question = (
            sa.select(
                _DEVICE.c.name, _SPAN.c.kind, _SPAN.c.member, key.c.value, value.c.value,
                _SPAN.c.first, _SPAN.c.last, ended,
            )
            .join(_DEVICE, _DEVICE.c.id == _SPAN.c.device)
            .join(key, key.c.id == _SPAN.c.key)
            .join(value, value.c.id == _SPAN.c.value)
            .where(*which)
        )  # fmt: skip
        with self._telling(), self._engine.connect() as connection:
            return [
                (
                    name,
                    Span(
                        fact=_fact(kind, member, key_, value_),
                        first=datetime.fromtimestamp(first, UTC),
                        last=_time(last),
                        ended=_time(after),
                    ),
                )
                for name, kind, member, key_, value_, first, last, after in connection.execute(
                    question
                )
            ]

    def known(self, at: datetime | None) -> dict[str, bytes]:
        """The files that were known at a time (None: now), by name."""
        with self._telling(), self._engine.connect() as connection:
            found = {}
            for name, sha256 in self._known_in(connection, at).items():
                data = connection.execute(
                    sa.select(_CONTENT.c.data).where(_CONTENT.c.sha256 == sha256)
                ).scalar_one()
                found[name] = zlib.decompressobj().decompress(data, _MOST_KNOWN)
                if hashlib.sha256(found[name]).hexdigest() != sha256:
                    raise ValueError(f"{name} as it was known")
            return found

    def known_since(self) -> datetime | None:
        """Since when the store remembers what was known."""
        with self._telling(), self._engine.connect() as connection:
            return _time(connection.execute(sa.select(sa.func.min(_KNOWN.c.at))).scalar())

    def first_known(self, part: str) -> dict[str, datetime]:
        """Since when each file of a folder is known, by name, the earliest content counts."""
        with self._telling(), self._engine.connect() as connection:
            rows = connection.execute(
                sa.select(_KNOWN.c.name, sa.func.min(_KNOWN.c.at))
                .where(
                    _KNOWN.c.name.startswith(part, autoescape=True), _KNOWN.c.sha256.is_not(None)
                )
                .group_by(_KNOWN.c.name)
            )
            return {name: datetime.fromtimestamp(at, UTC) for name, at in rows}

    def _known(self, at: datetime | None) -> dict[str, str]:
        with self._engine.connect() as connection:
            return self._known_in(connection, at)

    @staticmethod
    def _known_in(connection: Connection, at: datetime | None) -> dict[str, str]:
        rows = connection.execute(
            sa.select(_KNOWN.c.name, _KNOWN.c.sha256)
            .where(*([_KNOWN.c.at <= _seconds(at)] if at is not None else []))
            .order_by(_KNOWN.c.at, _KNOWN.c.id)
        )
        last = {row.name: row.sha256 for row in rows}
        return {name: sha256 for name, sha256 in last.items() if sha256 is not None}


class StoredClaims:
    """Advisory locks of PostgreSQL, one for each device that is read at the time.

    They are held by the connection: whoever is lost holds none. Where the database goes away
    meanwhile, nobody is kept from reading.
    """

    def __init__(self, connection: Connection) -> None:
        self._connection = connection

    def take(self, device: str) -> bool:
        """Take a device for oneself; whether nobody else has it."""
        return self._asked(sa.func.pg_try_advisory_lock, device) is not False

    def leave(self, device: str) -> None:
        """Leave it to others again."""
        self._asked(sa.func.pg_advisory_unlock, device)

    def _asked(self, function: Any, device: str) -> object:
        key = int.from_bytes(hashlib.sha256(f"ovek {device}".encode()).digest()[:8], signed=True)
        try:
            return self._connection.execute(sa.select(function(key))).scalar()
        except SQLAlchemyError:
            return None


def open_store(folder: Path, url: str | None, *, make: bool = True) -> HistoryStore | None:
    """The store of a site: `history.db` in its folder, or the one that its fleet file names.

    With `make` False, None where there is no store yet. Raises InputError, and DamagedError of a
    file that is no database, or no history.
    """
    if url is not None:
        return HistoryStore(*_with_secret(folder, url))
    file = folder / FILE
    if not make and not file.exists():
        return None
    check_regular(file)
    return HistoryStore(f"sqlite:///{file}", str(file), own=True)


def _with_secret(folder: Path, url: str) -> tuple[str, str]:
    """The URL with its secret, and as it may be shown. Raises InputError."""
    try:
        parsed = sa.make_url(url)
    except sa.exc.ArgumentError:
        do = "Use e.g. postgresql+psycopg://user@host/name"
        raise InputError(folder / "fleet.toml", "has no database name", do, key="history") from None
    if parsed.get_backend_name() not in ("postgresql", "sqlite"):
        text = f"is a {parsed.get_backend_name()} database"
        raise InputError(folder / "fleet.toml", text, "Use PostgreSQL or SQLite", key="history")
    if parsed.password is not None:
        do = f"Put it into {PASSWORD} or the keyring, never into a file"
        raise InputError(folder / "fleet.toml", "contains a password", do, key="history")
    shown = parsed.render_as_string()
    secret = os.environ.get(PASSWORD) or _from_keyring(shown, parsed.username)
    if secret:
        parsed = parsed.set(password=secret)
    return parsed.render_as_string(hide_password=False), shown


def _from_keyring(service: str, user: str | None) -> str | None:
    try:
        import keyring
        from keyring.errors import KeyringError
    except ImportError:
        return None
    try:
        found: str | None = keyring.get_password(service, user or "")
    except KeyringError:
        return None
    return found


def _engine(url: str) -> Engine:
    try:
        if url.startswith("sqlite"):
            return sa.create_engine(url, isolation_level="AUTOCOMMIT", connect_args={"timeout": 30})
        return sa.create_engine(
            url, isolation_level="AUTOCOMMIT", connect_args={"connect_timeout": 10}
        )
    except ImportError:
        do = "Install it: pip install 'ovek[postgres]'"
        raise InputError("history", "needs the extra `postgres`", do) from None


def _damaged(where: str, why: str, *, file: bool) -> InputError:
    """What is said of a store that is damaged: a file can be made anew, a server's cannot."""
    if file:
        return DamagedError(where, f"is damaged: {why[:200]}", "Ovek rebuilds it")
    return InputError(where, f"is damaged: {why[:200]}", "Restore it, or use another database")


def _fact(kind: int, member: str, key: str, value: str) -> Fact:
    """A fact as it was kept; raises ValueError, TypeError, LookupError or a DecodeError."""
    if kind < 0:
        raise LookupError(f"a kind {kind}")
    fact = Fact(FACT_KINDS[kind], member, key, value)
    if fact.kind in FACT_VALUES:
        msgspec.json.decode(value, type=FACT_VALUES[fact.kind])
    if fact.kind == "finding":
        msgspec.json.decode(key, type=tuple[str, str | None])
    if not isinstance(member, str):
        raise TypeError("a member that is not a string")
    return fact


def _theirs(readings: Iterable[StoredReading]) -> Iterator[StoredReading]:
    """Go through readings; what fails in making them is no damage of the store."""
    try:
        yield from readings
    except _READ_WRONG as error:
        raise RuntimeError("a reading could not be made") from error


def _told(where: str, error: SQLAlchemyError, *, file: bool) -> InputError:
    """The error of a database, told so that somebody can act on it."""
    cause = getattr(error, "orig", None) or error
    text = " ".join(str(cause).split())
    if file and any(each in text for each in _DAMAGE):
        return _damaged(where, text, file=file)
    if "locked" in text or "timeout" in text.lower():
        return InputError(where, "is locked: another process is writing to it", "Try again later")
    if "readonly" in text or "read-only" in text:
        return InputError(where, "cannot be written: it is read-only", "Check its permissions")
    if isinstance(error, OperationalError):
        return InputError(where, f"cannot be reached: {text[:200]}", "Start it, or try again later")
    if isinstance(error, DatabaseError):
        return InputError(where, f"cannot be used: {text[:200]}", "Check that it is the right one")
    return InputError(where, f"failed: {text[:200]}", "Try again, or delete it: Ovek rebuilds it")


def _about(connection: Connection, name: str) -> str | None:
    value: str | None = connection.execute(
        sa.select(_ABOUT.c.value).where(_ABOUT.c.name == name)
    ).scalar()
    return value


def _row(device: int, stretch: Stretch) -> dict[str, Any]:
    fact: Any = stretch.fact
    told = dict(zip(("kind", "member", "key", "value"), fact, strict=True))
    return {"device": device, **told, "first": stretch.first, "last": stretch.last}


def _few(values: list[Any]) -> Iterator[list[Any]]:
    return (values[at : at + _MANY] for at in range(0, len(values), _MANY))


def _safe(text: str) -> str:
    """Text that every database takes: PostgreSQL has no NUL in one."""
    return text.replace("\x00", "\\x00")


def _seconds(at: datetime) -> int:
    return int(at.timestamp())


def _time(seconds: int | None) -> datetime | None:
    return None if seconds is None else datetime.fromtimestamp(seconds, UTC)


def _sha256(file: Path) -> str:
    made = hashlib.sha256()
    with opened(file) as stream:
        while piece := stream.read(2**20):
            made.update(piece)
    return made.hexdigest()
