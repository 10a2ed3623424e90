"""Runs `ovek` as a process of its own for each call, without loading it anew each time.

A process that has loaded the program waits on a socket. For each call it forks: the child takes the
folder, environment and files that came with the call, and runs what is typed as `ovek` would.
"""

import array
import atexit
import contextlib
import gc
import importlib
import json
import os
import pkgutil
import socket
import struct
import subprocess
import sys
import tempfile
import threading
import traceback
from collections.abc import Iterator
from functools import lru_cache
from pathlib import Path

# What a shell starts: next to nothing is loaded.
CLIENT = """#!{python} -ISE
import array, json, os, socket, struct, sys
call = dict(cwd=os.getcwd(), argv=sys.argv[1:], env=dict(os.environ))
data = json.dumps(call).encode()
door = socket.socket(socket.AF_UNIX)
door.connect({door!r})
given = [(socket.SOL_SOCKET, socket.SCM_RIGHTS, array.array("i", [0, 1, 2]))]
door.sendmsg([struct.pack("!I", len(data))], given)
door.sendall(data)
sys.exit(struct.unpack("!i", door.recv(4))[0])
"""
LENGTH = struct.Struct("!I")
CODE = struct.Struct("!i")


@lru_cache(maxsize=1)
def _loaded() -> socket.socket:
    """The way to a process that has loaded the program, and forks for each call."""
    ours, theirs = socket.socketpair()
    with theirs:
        subprocess.Popen(
            [sys.executable, __file__, str(theirs.fileno())], pass_fds=[theirs.fileno()]
        )
    return ours


def run(folder: Path, *typed: str, **environment: str) -> tuple[int, bytes, bytes]:
    """Have `ovek` run as it is typed: how it ends, its output and what it says beside that."""
    call = {"cwd": str(folder), "argv": typed, "env": {**os.environ, **environment}}
    with (
        Path(os.devnull).open("rb") as nothing,
        tempfile.TemporaryFile() as out,
        tempfile.TemporaryFile() as err,
    ):
        files = [nothing.fileno(), out.fileno(), err.fileno()]
        code = _pass_on(json.dumps(call).encode(), files)
        out.seek(0)
        err.seek(0)
        return code, out.read(), err.read()


def _pass_on(data: bytes, files: list[int]) -> int:
    sock, told = _loaded(), array.array("i", files)
    sock.sendmsg([LENGTH.pack(len(data))], [(socket.SOL_SOCKET, socket.SCM_RIGHTS, told)])
    sock.sendall(data)
    (code,) = CODE.unpack(_exactly(sock, CODE.size))
    return code


@contextlib.contextmanager
def program(file: Path) -> Iterator[None]:
    """A program at `file` by which a shell has `ovek` run, one at a time, where and as it is."""
    with tempfile.TemporaryDirectory() as own, socket.socket(socket.AF_UNIX) as door:
        door.bind(f"{own}/door")
        door.listen()
        file.write_text(CLIENT.format(python=sys.executable, door=f"{own}/door"))
        file.chmod(0o755)
        threading.Thread(target=_let_in, args=[door], daemon=True).start()
        yield
        door.shutdown(socket.SHUT_RDWR)


def _let_in(door: socket.socket) -> None:
    with contextlib.suppress(OSError):  # the door is closed
        while True:
            caller, _ = door.accept()
            with caller:
                head, files, _, _ = socket.recv_fds(caller, LENGTH.size, 3)
                code = _pass_on(_exactly(caller, LENGTH.unpack(head)[0]), files)
                for file in files:
                    os.close(file)
                caller.sendall(CODE.pack(code))


def _exactly(sock: socket.socket, size: int) -> bytes:
    data = b""
    while len(data) < size:
        piece = sock.recv(size - len(data))
        if not piece:
            raise EOFError
        data += piece
    return data


def serve(sock: socket.socket) -> None:
    """Fork for each call until nobody calls any more."""
    while True:
        head, fds, _, _ = socket.recv_fds(sock, LENGTH.size, 3)
        if not head:
            return
        call = json.loads(_exactly(sock, LENGTH.unpack(head)[0]))
        pid = os.fork()
        if pid == 0:
            sock.close()
            _child(call, fds)
        for fd in fds:
            os.close(fd)
        _, status = os.waitpid(pid, 0)
        sock.sendall(CODE.pack(os.waitstatus_to_exitcode(status)))


def _child(call: dict, fds: list[int]) -> None:
    code: object = 1
    try:
        for to, fd in enumerate(fds):
            os.dup2(fd, to)
        os.chdir(call["cwd"])
        os.environ.clear()
        os.environ.update(call["env"])
        for name, fd, mode in (("stdin", 0, "r"), ("stdout", 1, "w"), ("stderr", 2, "w")):
            stream = open(fd, mode, encoding="utf-8", closefd=False)  # noqa: SIM115
            setattr(sys, name, stream)
            setattr(sys, f"__{name}__", stream)
        sys.argv = ["ovek", *call["argv"]]
        from ovek.cli import main

        main()
        code = 0
    except SystemExit as ended:
        code = ended.code
    except BaseException:
        traceback.print_exc()
    if isinstance(code, str):
        print(code, file=sys.stderr)
        code = 1
    atexit._run_exitfuncs()
    for stream in (sys.stdout, sys.stderr):
        with contextlib.suppress(OSError, ValueError):
            stream.flush()
    os._exit(int(code or 0))


def main() -> None:
    import ovek

    for module in pkgutil.walk_packages(ovek.__path__, "ovek."):
        if not module.name.endswith("__main__"):
            importlib.import_module(module.name)
    for late in ("jinja2", "matplotlib.pyplot", "sqlalchemy.dialects.sqlite.pysqlite"):
        with contextlib.suppress(ImportError):
            importlib.import_module(late)
    gc.freeze()

    serve(socket.socket(fileno=int(sys.argv[1])))


if __name__ == "__main__":
    main()
