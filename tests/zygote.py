"""Runs `ovek` as a process of its own for each call, without loading it anew each time.

A process that has loaded the program waits on a socket. For each call it forks: the child takes the
folder, environment and files that came with the call, and runs what is typed as `ovek` would.
"""

import array
import atexit
import contextlib
import importlib
import json
import os
import pkgutil
import socket
import struct
import sys
import traceback
from pathlib import Path

LENGTH = struct.Struct("!I")
CODE = struct.Struct("!i")


def run(sock: socket.socket, folder: Path, typed: tuple[str, ...], out: int, err: int) -> int:
    """Have `ovek` run as it is typed; how it ends. Its output goes to these descriptors."""
    call = {"cwd": str(folder), "argv": list(typed), "env": dict(os.environ)}
    data = json.dumps(call).encode()
    told = array.array("i", [out, err])
    sock.sendmsg([LENGTH.pack(len(data))], [(socket.SOL_SOCKET, socket.SCM_RIGHTS, told)])
    sock.sendall(data)
    (code,) = CODE.unpack(_exactly(sock, CODE.size))
    return code


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
        head, fds, _, _ = socket.recv_fds(sock, LENGTH.size, 2)
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
        nothing = os.open(os.devnull, os.O_RDONLY)
        for fd, to in ((nothing, 0), (fds[0], 1), (fds[1], 2)):
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
    import sqlalchemy.dialects.sqlite.pysqlite  # noqa: F401 - what is loaded late otherwise

    serve(socket.socket(fileno=int(sys.argv[1])))


if __name__ == "__main__":
    main()
