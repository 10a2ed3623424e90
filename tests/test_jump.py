"""Through a jump host, with keys that fleet.toml names; nothing of the user's own settings."""

import asyncio
import shutil
import subprocess
import time

import asyncssh
import msgspec
import pytest

from ovek.files.errors import InputError
from ovek.files.fleet import FleetFile
from ovek.model.fleet import Access, Fleet, FleetDevice, JumpHost, Login
from ovek.sources.problem import ReadProblem
from ovek.sources.ssh import Gates, Limits, connected, ran
from ovek.sources.trust import HostKeys, Secrets

LOOPBACK = "127.0.0.1"
LIMITS = Limits(connect=20.0, login=20.0, answer=20.0)


class Server(asyncssh.SSHServer):
    """Lets in who has the key or the password, and through to wherever."""

    def __init__(self, log, trusted=None):
        self.log, self.trusted = log, trusted

    def connection_made(self, connection):
        self.log.append("connected")

    def begin_auth(self, username):
        self.log.append(username)
        return True

    def password_auth_supported(self):
        return self.trusted is None

    def validate_password(self, username, password):
        return password == "harbour"

    def public_key_auth_supported(self):
        return True

    def validate_public_key(self, username, key):
        return self.trusted is not None and key == self.trusted.convert_to_public()

    def connection_requested(self, *where):
        self.log.append("through")
        return True


async def says_seven(process):
    process.stdout.write("7.4\n")
    process.exit(0)


def reach(tmp_path, *, knows=("bastion", "box"), key=None, trusted=None, known=None):
    """Reach a box through a bastion; what each of them saw, and the answer of the box."""
    logs = {"bastion": [], "box": []}

    async def run():
        keys = {name: asyncssh.generate_private_key("ssh-ed25519") for name in logs}
        ports, text = {}, ""
        for name, log in logs.items():
            acceptor = await asyncssh.listen(
                LOOPBACK,
                0,
                server_host_keys=[keys[name]],
                server_factory=lambda log=log: Server(log, trusted),
                process_factory=says_seven,
            )
            ports[name] = acceptor.get_port()
            if name in knows:
                shown = keys[(known or {}).get(name, name)].export_public_key("openssh").decode()
                text += f"[{LOOPBACK}]:{ports[name]} {shown}"
        (tmp_path / "known_hosts").write_text(text)
        hosts = HostKeys(tmp_path / "known_hosts", take_new=False)
        secrets = Secrets(lambda: "harbour", tmp_path)
        bastion = Login(
            name="bastion", host=LOOPBACK, port=ports["bastion"], user="porter", key=key
        )
        box = Login(
            name="box", host=LOOPBACK, port=ports["box"], user="reader", key=key, through=bastion
        )
        async with connected(box, LIMITS, hosts, secrets, Gates()) as connection:
            return await ran(connection, "version", LIMITS, 20.0)

    return logs, lambda: asyncio.run(run())


def test_a_device_is_reached_through_a_jump_host_each_with_its_own_user(tmp_path):
    logs, run = reach(tmp_path)
    assert run() == (0, b"7.4\n", "")
    assert logs["bastion"] == ["connected", "porter", "through"]
    assert logs["box"] == ["connected", "reader"]


def test_the_jump_hosts_own_key_is_checked_before_anything_goes_through(tmp_path):
    logs, run = reach(tmp_path, knows=("box",))
    with pytest.raises(ReadProblem, match="unknown host key"):
        run()
    assert "through" not in logs["bastion"]
    assert logs["box"] == []


def test_a_changed_key_behind_the_jump_host_is_refused(tmp_path):
    logs, run = reach(tmp_path, known={"box": "bastion"})
    with pytest.raises(ReadProblem, match="has changed"):
        run()
    assert "reader" not in logs["box"]


@pytest.mark.parametrize("passphrase", [None, "seagull"])
def test_a_key_that_fleet_toml_names_is_used_and_its_passphrase_comes_from_outside(
    tmp_path, monkeypatch, passphrase
):
    key = asyncssh.generate_private_key("ssh-ed25519")
    key.write_private_key(tmp_path / "id", passphrase=passphrase)
    if passphrase:
        monkeypatch.setenv("OVEK_KEY_PASSPHRASE", passphrase)
    _, run = reach(tmp_path, key="id", trusted=key)
    assert run() == (0, b"7.4\n", "")


def test_a_key_that_cannot_be_used_is_told_with_its_file(tmp_path, monkeypatch):
    asyncssh.generate_private_key("ssh-ed25519").write_private_key(
        tmp_path / "id", passphrase="seagull"
    )
    (tmp_path / "noise").write_text("no key")
    for name in ("id", "noise", "none"):
        _, run = reach(tmp_path, key=name)
        with pytest.raises(ReadProblem, match=f"using the key .*{name}"):
            run()


def login_of(fleet):
    ((_, login),) = list(fleet.logins())
    return login


def box(**more):
    return FleetDevice(name="box", sheet="s", host="192.0.2.1", **more)


def test_user_key_and_way_through_are_those_of_the_device_else_its_site_else_the_fleet():
    gate = JumpHost(name="gate", host="192.0.2.9", user="porter")
    fleet = Fleet(name="x", user="all", key="k", through="gate", jump_host=(gate,), device=(box(),))
    through = Login(name="gate", host="192.0.2.9", user="porter", key="k")
    assert login_of(fleet) == Login(
        name="box", host="192.0.2.1", user="all", key="k", through=through
    )
    place = {"Port Arle": Access(user="arle", through="")}
    there = msgspec.structs.replace(fleet, site=place, device=(box(site="Port Arle"),))
    assert login_of(there) == Login(name="box", host="192.0.2.1", user="arle", key="k")
    own = msgspec.structs.replace(there, device=(box(site="Port Arle", user="me", through="gate"),))
    assert login_of(own).user == "me"
    assert login_of(own).through == through


def test_a_device_may_be_gone_through_and_is_itself_reached_directly():
    devices = (box(), FleetDevice(name="gate", sheet="s", host="192.0.2.9"))
    fleet = Fleet(name="x", through="gate", device=devices)
    logins = {device.name: login for device, login in fleet.logins()}
    assert logins["gate"].through is None
    assert logins["box"].through == logins["gate"]


WRONG = {
    "nowhere": "neither a jump host nor a device",
    "box": "itself",
    "hostless": "has no host",
}


@pytest.mark.parametrize("through", WRONG)
def test_a_way_through_that_leads_nowhere_is_told_with_its_device(tmp_path, through):
    (tmp_path / "fleet.toml").write_text(
        f'name = "x"\n[[device]]\nname = "box"\nsheet = "s"\nhost = "h"\nthrough = "{through}"\n'
        '[[device]]\nname = "hostless"\nsheet = "s"\n'
    )
    with pytest.raises(InputError, match=WRONG[through]) as told:
        FleetFile(tmp_path)
    assert "'box'" in str(told.value)


def test_ways_through_in_a_circle_are_told(tmp_path):
    (tmp_path / "fleet.toml").write_text(
        'name = "x"\n[[jump_host]]\nname = "a"\nhost = "h"\nthrough = "b"\n'
        '[[jump_host]]\nname = "b"\nhost = "h"\nthrough = "a"\n'
        '[[device]]\nname = "box"\nsheet = "s"\nhost = "h"\nthrough = "a"\n'
    )
    with pytest.raises(InputError, match="box → a → b → a"):
        FleetFile(tmp_path)


def test_a_jump_host_that_is_not_there_is_told_by_its_name(tmp_path):
    gate = Login(name="gate", host=LOOPBACK, port=1)
    behind = Login(name="box", host=LOOPBACK, through=gate)

    async def run():
        hosts = HostKeys(tmp_path / "known_hosts", take_new=False)
        async with connected(behind, LIMITS, hosts, Secrets(), Gates()):
            pass

    with pytest.raises(ReadProblem, match=r"connecting to the jump host gate \(127.0.0.1 port 1\)"):
        asyncio.run(run())


def test_a_public_key_means_the_private_one_that_the_agent_has(tmp_path, monkeypatch):
    if shutil.which("ssh-agent") is None or shutil.which("ssh-add") is None:
        pytest.skip("ssh-agent is not installed")
    key, other = (asyncssh.generate_private_key("ssh-ed25519") for _ in range(2))
    for name, one in (("id", key), ("other", other)):
        one.write_private_key(tmp_path / name)
        (tmp_path / name).chmod(0o600)
    key.write_public_key(tmp_path / "id.pub")
    socket = tmp_path / "agent"
    with subprocess.Popen(["ssh-agent", "-D", "-a", socket], stdout=subprocess.DEVNULL) as agent:
        try:
            for _ in range(100):
                if socket.exists():
                    break
                time.sleep(0.05)
            monkeypatch.setenv("SSH_AUTH_SOCK", str(socket))
            for name in ("other", "id"):
                subprocess.run(["ssh-add", "-q", tmp_path / name], check=True)
            _, run = reach(tmp_path, key="id.pub", trusted=key)
            assert run() == (0, b"7.4\n", "")
            (tmp_path / "other.pub").write_bytes(other.export_public_key())
            _, run = reach(tmp_path, key="other.pub", trusted=key)
            with pytest.raises(ReadProblem, match=r"rejected user .*it accepts a key"):
                run()
        finally:
            agent.terminate()
