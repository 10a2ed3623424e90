"""Runs Ovek as on a system that has no more than Windows has: `python without_unix.py ARGUMENT…`.

What only Unix has is taken away from the modules of Ovek, and from them alone: the libraries
beneath know their systems. Without arguments every module is imported, and their names are printed.
"""

import asyncio
import builtins
import importlib
import multiprocessing
import pkgutil
import sys
from types import ModuleType
from typing import Any

MODULES = {
    "fcntl", "resource", "pwd", "grp", "termios", "tty", "pty", "syslog", "readline", "posix",
    "spwd", "crypt", "nis",
}  # fmt: skip
NAMES = {
    "os": {
        "fork", "forkpty", "wait", "wait3", "wait4", "waitid", "getuid", "geteuid", "getgid",
        "getegid", "getgroups", "getlogin_r", "setuid", "setgid", "seteuid", "setsid", "setpgid",
        "getpgid", "getpgrp", "killpg", "chown", "lchown", "fchown", "chroot", "mkfifo", "mknod",
        "sched_getaffinity", "sched_setaffinity", "sched_yield", "nice", "uname", "getloadavg",
        "statvfs", "fstatvfs", "sync", "ttyname", "ctermid", "openpty", "posix_spawn", "pread",
        "pwrite", "readv", "writev", "sendfile", "posix_fadvise", "posix_fallocate", "getxattr",
        "setxattr", "listxattr", "memfd_create", "O_NONBLOCK", "O_NOFOLLOW", "O_CLOEXEC",
        "O_DIRECTORY", "O_SYNC", "O_DSYNC", "O_NOATIME", "WIFEXITED", "WEXITSTATUS", "WNOHANG",
    },
    "signal": {
        "SIGALRM", "SIGHUP", "SIGKILL", "SIGUSR1", "SIGUSR2", "SIGPIPE", "SIGCHLD", "SIGQUIT",
        "SIGWINCH", "SIGTSTP", "SIGCONT", "alarm", "setitimer", "pthread_sigmask", "sigwait",
    },
    "socket": {"AF_UNIX", "socketpair_unix", "SO_REUSEPORT", "SCM_RIGHTS"},
}  # fmt: skip


class _Less(ModuleType):
    """A module without some of its names."""

    def __init__(self, whole: ModuleType, without: set[str]) -> None:
        super().__init__(whole.__name__)
        self.__dict__.update(
            {name: value for name, value in vars(whole).items() if name not in without}
        )


def take_away() -> None:
    """Take away what only Unix has, from every module of Ovek that is imported from now on."""
    less = {name: _Less(importlib.import_module(name), gone) for name, gone in NAMES.items()}
    whole = builtins.__import__

    def imported(name: str, spaces: Any = None, *more: Any, **named: Any) -> Any:
        who = (spaces or {}).get("__name__") or ""
        if who == "ovek" or who.startswith("ovek."):
            if name.partition(".")[0] in MODULES:
                raise ImportError(f"no module named {name}")
            if name in less:
                return less[name]
        return whole(name, spaces, *more, **named)

    def refused(*_: Any) -> None:
        raise NotImplementedError

    builtins.__import__ = imported
    asyncio.BaseEventLoop.add_signal_handler = refused  # type: ignore[method-assign]
    asyncio.SelectorEventLoop.add_signal_handler = refused  # type: ignore[method-assign]
    multiprocessing.set_start_method("spawn")


if __name__ == "__main__":
    take_away()
    if sys.argv[1:]:
        from ovek.cli import main

        main()
    else:
        import ovek

        for module in pkgutil.walk_packages(ovek.__path__, "ovek."):
            if module.name != "ovek.__main__":
                importlib.import_module(module.name)
                print(module.name)
