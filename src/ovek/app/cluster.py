"""Work on a fleet spread over other machines: Dask workers, by the address of their scheduler.

A worker needs this package, of the same version. The site goes to each worker once, told by its
content; the lines of the devices go with each part, so that no storage has to be shared. A worker
that dies costs another try of its parts and no result.

What a worker answers is bytes, decoded here as data of a known type. Dask is told to refuse a
pickled result, so that a rogue worker cannot run code here by what it answers.
"""

import hashlib
import logging
import tempfile
from collections import deque
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from importlib import import_module
from pathlib import Path
from typing import Any, NamedTuple, TypeVar

from msgspec import DecodeError, Raw, Struct, ValidationError
from msgspec.msgpack import Decoder, encode

from ovek import __version__
from ovek.app.devices import Devices, release_index
from ovek.app.work import Lines, Made, Work, worked
from ovek.engine.releases import ReleaseIndex
from ovek.files.atomic import write_whole
from ovek.files.errors import InputError
from ovek.files.newest import SnapshotLine
from ovek.files.site import Site
from ovek.files.state import LineReader, State

T = TypeVar("T")
_TRIES = 5
_WAITS = "8s"
_AHEAD = 3  # parts that wait for each worker
_AS_DATA = ("msgpack",)  # how a result may come: not pickled


class Bundle(Struct, frozen=True):
    """All that a worker needs of a site: its files by name, and who could not be read lately."""

    version: str
    files: dict[str, bytes]
    snapshots: list[str]
    stale: dict[str, str]

    @property
    def sha256(self) -> str:
        """What it is told by."""
        made = hashlib.sha256()
        for name, data in sorted(self.files.items()):
            made.update(f"{name}\0{len(data)}\0".encode() + data)
        made.update(repr((self.version, self.snapshots, sorted(self.stale.items()))).encode())
        return made.hexdigest()


class _Sent(State):
    """A state of which the lines came along."""

    def __init__(self, files: list[Path], texts: dict[SnapshotLine, bytes]) -> None:
        super().__init__(Path("snapshots"), files, {})
        self._sent = texts

    def reader(self) -> LineReader:
        return _SentReader(self._sent)


class _SentReader(LineReader):
    """Gives lines that came along."""

    def __init__(self, texts: dict[SnapshotLine, bytes]) -> None:
        super().__init__([])
        self._sent = texts

    def text(self, line: SnapshotLine) -> bytes:
        return self._sent[line]


def spread(
    address: str, devices: Devices, parts: Iterator[Lines], work: Work[Any], args: tuple[Any, ...]
) -> Iterator[Made[Any]]:
    """Work on the workers at an address; results come in the order of the parts.

    Raises InputError where there is nobody, or a worker has another version of this package.
    """
    site, decode = devices.site, Decoder(work.makes).decode
    names = [file.name for file in devices.state.files]
    bundle = Bundle(__version__, site.known_files(), names, devices.stale)
    with _client(address) as client:
        ahead = _AHEAD * max(1, len(client.nthreads()))
        # As a task, and not as scattered data: when whoever has it dies, it is there again.
        whole = client.submit(_carried, bundle, pure=False, retries=_TRIES)
        waiting: deque[Any] = deque()
        for lines in parts:
            texts = {line: text for _, line, text in devices.state.texts(lines)}
            waiting.append(
                client.submit(_part, whole, work, args, lines, texts, pure=False, retries=_TRIES)
            )
            if len(waiting) > ahead:
                yield _made(_taken(address, waiting.popleft()), decode)
        while waiting:
            yield _made(_taken(address, waiting.popleft()), decode)


@contextmanager
def _client(address: str) -> Iterator[Any]:
    """The workers at an address; raises InputError where there are none."""
    try:
        dask: Any = import_module("distributed")
    except ImportError:
        do = "Install it here and on the workers: pip install 'ovek[cluster]'"
        raise InputError(address, "needs the extra cluster", do) from None
    config: Any = import_module("dask.config")
    logging.getLogger("distributed").setLevel(logging.CRITICAL + 1)  # what matters is told here
    config.set({"distributed.admin.large-graph-warning-threshold": "1GB"})  # a catalog may be large
    try:
        client = dask.Client(address, timeout=_WAITS, set_as_default=False, deserializers=_AS_DATA)
    except (OSError, ValueError) as error:
        problem = f"no Dask scheduler answers ({str(error).partition(chr(10))[0][:100]})"
        raise InputError(address, problem, "Start one (dask scheduler), or omit --on") from None
    with client:
        if not client.nthreads():
            raise InputError(address, "has no worker", "Start at least one: dask worker ADDRESS")
        yield client


@contextmanager
def calls(address: str) -> Iterator[tuple[int, Callable[..., Any]]]:
    """How many calls the workers at an address take at once, and what has one made there.

    Raises InputError where there are none. What comes of a call has `result(kind)`, which raises
    InputError where all workers died of it or where one has another version.
    """
    with _client(address) as client:

        def submit(function: Callable[..., Any], *args: Any) -> Any:
            future = client.submit(_called, __version__, function, args, pure=False, retries=_TRIES)
            return _Call(address, future)

        yield sum(client.nthreads().values()), submit


class _Call(NamedTuple):
    """A call that was made elsewhere."""

    address: str
    future: Any

    def result(self, kind: type[T]) -> T:
        """What it gave, which is of that type. Raises InputError."""
        return _made(_taken(self.address, self.future), Decoder(kind).decode)[1]


def _called(version: str, function: Callable[..., Any], args: tuple[Any, ...]) -> bytes:
    return _answered(version, lambda: (0, function(*args)))


class _Answer(Struct, frozen=True):
    """What a worker answers: how many bytes it worked on and what came of them, or an error."""

    done: int = 0
    made: Raw = Raw()
    refused: tuple[str, str, str, int | None, str | None] | None = None


def _answered(version: str, work: Callable[[], Made[Any]]) -> bytes:
    """What comes of some work, as a worker sends it."""
    try:
        if version != __version__:
            problem = f"a worker has Ovek {__version__}, but this is {version}"
            raise InputError("cluster", problem, "Install the same version on all")
        done, result = work()
        answer = _Answer(done, Raw(encode(result)))
    except InputError as error:
        refused = (error.file, error.met, error.do, error.line, error.key)
        answer = _Answer(refused=refused)
    return encode(answer)


def _made(data: object, decode: Callable[[Raw], T]) -> Made[T]:
    """What a worker sent, decoded. Raises InputError where it is an error, or no answer of ours."""
    try:
        if not isinstance(data, bytes):
            raise ValidationError("it is not data")
        answer = _ANSWER.decode(data)
        if answer.refused is None:
            return answer.done, decode(answer.made)
    except (DecodeError, ValidationError) as error:
        problem = f"a worker sent an answer that cannot be read ({error})"
        raise InputError("cluster", problem, "Check who runs the workers") from None
    file, problem, do, line, key = answer.refused
    raise InputError(file, problem, do, line=line, key=key)


_ANSWER = Decoder(_Answer)


def _taken(address: str, future: Any) -> Any:
    """What came of one part; raise InputError where nothing did."""
    dask: Any = import_module("distributed")
    try:
        return future.result()
    except dask.KilledWorker:
        problem = "every worker that tried one part of the work died"
        raise InputError(
            address, problem, "Find out why in the workers' logs, then run this again"
        ) from None
    except TypeError:
        if future.status == "error":  # of the work itself: a defect
            raise
        return None  # Dask refuses to decode it


def _carried(bundle: Bundle) -> Bundle:
    """What a worker needs of a site, as it came."""
    return bundle


# The sites that a worker has, by the digest of what came: each is unpacked once.
_HERE: dict[str, tuple[Site, ReleaseIndex]] = {}


def _part(
    bundle: Bundle,
    work: Work[Any],
    args: tuple[Any, ...],
    lines: Lines,
    texts: dict[SnapshotLine, bytes],
) -> bytes:
    """What comes of some lines of a snapshot, as a worker sends it."""

    def answer() -> Made[Any]:
        site, releases = _unpacked(bundle)
        files = [Path("snapshots", name) for name in bundle.snapshots]
        devices = Devices(site, _Sent(files, texts), releases=releases)
        devices.stale = bundle.stale
        return worked(devices, work.prepare(devices, *args), lines)

    return _answered(bundle.version, answer)


def _unpacked(bundle: Bundle) -> tuple[Site, ReleaseIndex]:
    """The site that came, in a folder of its own. Raises InputError."""
    key = bundle.sha256
    if key not in _HERE:
        folder = Path(tempfile.mkdtemp(prefix="ovek-site-"))
        for name, data in bundle.files.items():
            if ".." not in Path(name).parts and not Path(name).is_absolute():
                write_whole(folder / name, [data])
        site = Site(folder)
        _HERE[key] = site, release_index(site)
    return _HERE[key]
