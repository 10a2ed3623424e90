"""Real servers on loopback (Debian's), and doors in front of them that cut or lose what passes."""

import os
import shutil
import socket
import subprocess
import threading
import time
from contextlib import suppress
from pathlib import Path

import pytest

SSHD = shutil.which("sshd") or "/usr/sbin/sshd"
LIGHTTPD = shutil.which("lighttpd") or "/usr/sbin/lighttpd"
TFTPD = shutil.which("in.tftpd") or "/usr/sbin/in.tftpd"


def free_port(kind: int = socket.SOCK_STREAM) -> int:
    with socket.socket(type=kind) as one:
        one.bind(("127.0.0.1", 0))
        return one.getsockname()[1]


def _wait_for(port: int) -> None:
    for _ in range(100):
        with socket.socket() as one:
            if one.connect_ex(("127.0.0.1", port)) == 0:
                return
        time.sleep(0.1)


def _installed(program: str, name: str) -> None:
    if not Path(program).exists():
        pytest.skip(f"{name} is not installed (.ci/run installs it)")


@pytest.fixture
def server(request, tmp_path, monkeypatch):
    """An OpenSSH server with keys of its own; yields its port and the line for known_hosts.

    A parameter is more of its configuration.
    """
    _installed(SSHD, "the OpenSSH server")
    home = tmp_path / "home"
    (home / ".ssh").mkdir(parents=True)
    for key in (tmp_path / "host_key", home / ".ssh/id_ed25519"):
        command = ["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key]
        subprocess.run(command, check=True)
    Path("/run/sshd").mkdir(parents=True, exist_ok=True)
    port = free_port()
    config = tmp_path / "sshd_config"
    config.write_text(
        f"ListenAddress 127.0.0.1\nPort {port}\nHostKey {tmp_path}/host_key\n"
        f"AuthorizedKeysFile {home}/.ssh/id_ed25519.pub\nStrictModes no\nPidFile none\n"
        "PermitRootLogin yes\nPasswordAuthentication no\nUsePAM no\n"
        f"Subsystem sftp internal-sftp\n{getattr(request, 'param', '')}"
    )
    monkeypatch.setenv("HOME", str(home))
    monkeypatch.delenv("SSH_AUTH_SOCK", raising=False)
    monkeypatch.delenv("OVEK_PASSWORD", raising=False)
    process = subprocess.Popen([SSHD, "-D", "-e", "-f", config], stderr=subprocess.DEVNULL)
    _wait_for(port)
    public = (tmp_path / "host_key.pub").read_text().rpartition(" ")[0]
    yield port, f"[127.0.0.1]:{port} {public}\n"
    process.terminate()
    process.wait()


@pytest.fixture
def web(tmp_path):
    """A web server with index pages; yields its port and the folder that it shows."""
    _installed(LIGHTTPD, "lighttpd")
    folder, port = tmp_path / "web", free_port()
    folder.mkdir()
    config = tmp_path / "lighttpd.conf"
    config.write_text(
        f'server.document-root = "{folder}"\nserver.port = {port}\nserver.bind = "127.0.0.1"\n'
        'server.modules = ("mod_dirlisting", "mod_redirect")\ndir-listing.activate = "enable"\n'
        'mimetype.assign = (".txt" => "text/plain", "" => "application/octet-stream")\n'
        'url.redirect = ("^/old/(.*)" => "/$1", "^/away/" => "http://192.0.2.9/")\n'
    )
    process = subprocess.Popen([LIGHTTPD, "-D", "-f", config], stderr=subprocess.DEVNULL)
    _wait_for(port)
    yield port, folder
    process.terminate()
    process.wait()


@pytest.fixture
def tftp(tmp_path):
    """A TFTP server; yields its port and its folder."""
    _installed(TFTPD, "tftpd-hpa")
    if os.geteuid() != 0:
        pytest.skip("a TFTP server changes its root, which only root may")
    folder, port = tmp_path / "tftp", free_port(socket.SOCK_DGRAM)
    folder.mkdir()
    command = [TFTPD, "-L", "-s", "-u", "root", "-a", f"127.0.0.1:{port}", str(folder)]
    process = subprocess.Popen(command, stderr=subprocess.DEVNULL)
    time.sleep(0.5)
    yield port, folder
    process.terminate()
    process.wait()


class Cutting:
    """A door before a TCP server that cuts the first connections after some bytes of its answers.

    `passed` are the bytes that it let through.
    """

    def __init__(self, port: int, after: int, times: int) -> None:
        self.to, self.after, self.left, self.passed = port, after, times, 0
        self._door = socket.create_server(("127.0.0.1", 0))
        self.port = self._door.getsockname()[1]
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self) -> None:
        while True:
            try:
                near, _ = self._door.accept()
            except OSError:
                return
            # What is still in a buffer when the cut comes may never be read: keep that little.
            near.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, 2**16)
            far = socket.create_connection(("127.0.0.1", self.to))
            threading.Thread(target=self._pump, args=(near, far, False), daemon=True).start()
            threading.Thread(target=self._pump, args=(far, near, True), daemon=True).start()

    def _pump(self, source: socket.socket, target: socket.socket, counts: bool) -> None:
        done = 0
        try:
            while data := source.recv(2**16):
                if counts and self.left > 0 and done + len(data) > self.after:
                    self.left -= 1
                    break
                target.sendall(data)
                done += len(data)
                self.passed += len(data) if counts else 0
        except OSError:
            pass
        for one in (source, target):
            with suppress(OSError):
                one.shutdown(socket.SHUT_RDWR)

    def close(self) -> None:
        self._door.close()


SNMPD = shutil.which("snmpd") or "/usr/sbin/snmpd"


@pytest.fixture
def snmp(tmp_path):
    """A real SNMP agent that plays a stack of two, beside this machine's own storage.

    Yields its port. The community is `harbour`; `reader` signs by SHA-256 and hides by AES.
    """
    _installed(SNMPD, "snmpd")
    port = free_port(socket.SOCK_DGRAM)
    entity = ".1.3.6.1.2.1.47.1.1.1.1"
    rows = {
        1: (11, 0, 0, "the stack", "", "", ""),
        2: (3, 1, 1, "first", "QX-24", "B2", "9.1.4"),
        3: (3, 1, 2, "second", "QX-24", "B3", ""),
        4: (9, 3, 1, "main board", "", "", "9.1.3"),
    }
    lines = [
        f"agentaddress udp:127.0.0.1:{port}",
        "rocommunity harbour 127.0.0.1",
        'createUser reader SHA-256 "a long secret" AES "another secret"',
        "rouser reader priv",
        "sysDescr Quay switch QX-24, image 9.1.4 (full)",
    ]
    for at, (kind, inside, place, name, model, board, software) in rows.items():
        lines += [
            f"override {entity}.4.{at} integer {inside}",
            f"override {entity}.5.{at} integer {kind}",
            f"override {entity}.6.{at} integer {place}",
            f'override {entity}.7.{at} octet_str "{name}"',
            f'override {entity}.8.{at} octet_str "{board}"',
            f'override {entity}.10.{at} octet_str "{software}"',
            f'override {entity}.11.{at} octet_str "QX00{at}"',
            f'override {entity}.13.{at} octet_str "{model}"',
        ]
    lines.append(f'override {entity}.9.4 octet_str "1.20"')
    config = tmp_path / "snmpd.conf"
    config.write_text("\n".join(lines) + "\n")
    state = tmp_path / "snmp-state"
    state.mkdir()
    process = subprocess.Popen(
        [SNMPD, "-f", "-Ln", "-C", "-c", str(config)],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        env={**os.environ, "SNMP_PERSISTENT_DIR": str(state), "MIBS": ""},
    )
    time.sleep(1.0)
    yield port
    process.terminate()
    process.wait()
