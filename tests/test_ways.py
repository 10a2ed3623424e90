"""Ways in by open standards: a real SNMP agent, and a NETCONF server written by the RFC."""

import asyncio
import json
import threading

import asyncssh
import pytest

from builders import NOW
from languages import MAKERS, marked
from languages.spoken import Served
from ovek.model.sheet import Sheet
from ovek.sources.device_session import Interview, WantedDigests
from ovek.sources.entities import EntityComponent, told_of
from ovek.sources.snapshot_builder import Draft
from ovek.sources.ways.snmp import clock_of


def fleet(ovek, ways, port=0, sheet="any-device", **keys):
    more = "".join(f"{name} = {told}\n" for name, told in keys.items())
    ovek.write(
        "fleet.toml",
        f'name = "Test"\n[[device]]\nname = "quay"\nsheet = "{sheet}"\n'
        f"access = {json.dumps(ways)}\n"
        f'host = "127.0.0.1"\nport = {port or 22}\nuser = "reader"\n{more}',
    )


def state(ovek):
    return json.loads(max((ovek.folder / "snapshots").glob("2*.jsonl")).read_text())


V2C = '{ version = "2c", port = %d }'
V3 = '{ version = "3", port = %d }'  # the user is that of SSH


@pytest.fixture
def secrets(monkeypatch):
    monkeypatch.setenv("OVEK_SNMP_COMMUNITY", "harbour")
    monkeypatch.setenv("OVEK_SNMP_AUTH", "a long secret")
    monkeypatch.setenv("OVEK_SNMP_PRIVACY", "another secret")


# -- SNMP


@pytest.mark.parametrize("how", [V2C, V3])
def test_a_device_without_a_sheet_is_not_nothing(ovek, snmp, secrets, how):
    fleet(ovek, ["snmp"], snmp=how % snmp)
    ovek("survey", exits=3)  # what starts is unknown
    one = state(ovek)
    assert one["hardware"]["model"] == "QX-24"
    assert one["hardware"]["memory"] > 2**20
    assert "clock" in one
    members = {each["id"]: each for each in one["members"]}
    assert members["1"]["running_version"] == "9.1.4"
    assert members["1"]["hardware"] == {"model": "QX-24", "revision": "B2", "serial": "QX002"}
    assert members["2"]["running_version"] == "9.1.3"  # as its board tells
    assert members["2"]["components"] == [
        {"component": "main board", "slot": "1", "version": "1.20"}
    ]
    for volume in members["1"].get("volumes", ()):
        assert volume["capacity"] >= volume["free"]
    assert one["source"]["kind"] == "snmp"
    walk = ovek.json("bootwalk")["devices"][0]
    assert walk["next_boot"] == "unknown"
    assert "harbour" not in "".join(
        file.read_text(errors="replace")
        for file in (ovek.folder / "snapshots").rglob("*")
        if file.is_file()
    )


def test_a_sheet_says_which_storage_is_which_volume(ovek, snmp, secrets):
    text = ovek.folder / "sheets/switch.toml"
    ovek.write(
        "sheets/box.toml",
        text.read_text().replace('"switch"', '"box"')
        + '[reading]\naccess = ["snmp"]\nstorage = { "Physical memory" = "flash" }\n',
    )
    ovek.write(
        "fleet.toml",
        'name = "Test"\n[[device]]\nname = "quay"\nsheet = "box"\nhost = "127.0.0.1"\n'
        f'[device.snmp]\nversion = "2c"\nport = {snmp}\n',
    )
    ovek("survey", exits=3)
    one = state(ovek)
    assert [v["name"] for m in one["members"] for v in m.get("volumes", ())] == ["flash"]


def test_a_sheet_reads_what_the_system_table_says_in_words(ovek, snmp, secrets):
    sheet = (ovek.folder / "sheets/switch.toml").read_text().replace('"switch"', '"box"')
    words = r"(?P<model>QX-\d+), image (?P<version>\S+) \((?P<variant>\w+)\)"
    ovek.write("sheets/box.toml", f"{sheet}[reading]\ndescribed = '{words}'\n")
    fleet(ovek, ["snmp"], sheet="box", snmp=V2C % snmp)
    ovek("survey", exits=3)
    assert state(ovek)["running"] == {"version": "9.1.4", "variant": "full"}
    ovek.write("sheets/box.toml", f"{sheet}[reading]\ndescribed = '(?P<maker>x)'\n")
    assert "has the field 'maker'" in ovek("sheet", "check", "box", exits=2).stderr


def test_ssh_and_snmp_add_to_each_other_and_where_they_disagree_it_is_told(
    ovek, snmp, secrets, monkeypatch
):
    ovek.write("s.txt", marked("harrock"))
    ovek("sheet", "learn", "harrock", "s.txt")
    device = Served(MAKERS["harrock"])
    monkeypatch.setenv("OVEK_PASSWORD", "a secret")
    monkeypatch.delenv("SSH_AUTH_SOCK", raising=False)
    ways = ["ssh", "snmp"]
    fleet(ovek, ways, port=device.port, sheet="harrock", snmp=V2C % snmp)
    shown = ovek("survey", "--take-new-keys", "--answer-limit", "10", exits=None).stdout
    told = " ".join(shown.split())
    reported = "two access methods disagree: snmp reports hardware.model as QX-24"
    assert f"{reported}, and before it was H7-24" in told
    one = state(ovek)
    assert one["source"]["kind"] == "ssh+snmp"
    assert one["hardware"]["model"] == "H7-24"  # the first way's word
    assert one["hardware"]["memory"] > 2**20  # which only the second tells
    serials = {member["id"]: member["hardware"]["serial"] for member in one["members"]}
    assert serials == {"1": "QX002", "2": "QX003"}


@pytest.mark.parametrize(
    ("variable", "value", "told"),
    [
        ("OVEK_SNMP_COMMUNITY", None, "Put it into OVEK_SNMP_COMMUNITY"),
        ("OVEK_SNMP_AUTH", "a wrong one", "Check snmp in fleet.toml"),
        ("OVEK_SNMP_PRIVACY", None, "Put it into OVEK_SNMP_PRIVACY"),
    ],
)
def test_a_secret_that_is_missing_or_wrong_is_told(ovek, snmp, secrets, monkeypatch, variable,
                                                   value, told):  # fmt: skip
    if value is None:
        monkeypatch.delenv(variable)
    else:
        monkeypatch.setenv(variable, value)
    how = V2C if "COMMUNITY" in variable else V3
    fleet(ovek, ["snmp"], snmp=how % snmp)
    shown = " ".join(ovek("survey", "--tries", "1", exits=3).stdout.split())
    assert told in shown


def test_no_message_is_hidden_that_is_not_signed(ovek):
    fleet(ovek, ["snmp"], snmp='{ auth = "none" }')
    assert "privacy needs authentication" in ovek.refuses("survey")


def test_times_of_snmp():
    assert clock_of(bytes([7, 234, 1, 2, 3, 4, 5, 0])).isoformat() == "2026-01-02T03:04:05+00:00"
    west = bytes([7, 234, 1, 2, 3, 4, 60, 0, *b"-", 5, 30])
    assert clock_of(west).isoformat() == "2026-01-02T03:04:59-05:30"
    for wrong in (b"", bytes(8), bytes(9), bytes([7, 234, 13, 1, 0, 0, 0, 0])):
        assert clock_of(wrong) is None


# -- components


def part(id_, kind, **told):
    return EntityComponent(id=id_, kind=kind, name=id_, **told)


def test_one_chassis_is_the_device_and_its_software_that_of_its_boards_where_they_agree():
    box = part("c", "chassis", model="M", serial="S")
    boards = [part(f"b{n}", "module", inside="c", software="2.0", firmware="1") for n in (1, 2)]
    rows = list(told_of([box, *boards]))
    assert rows[0] == (
        "device", {"hardware.model": "M", "hardware.serial": "S", "running.version": "2.0"}
    )  # fmt: skip
    assert [row["component"] for _, row in rows[1:]] == ["b1", "b2"]
    other = part("b3", "module", inside="b1", software="2.1")
    assert "running.version" not in dict(told_of([box, *boards, other]))["device"]


def test_chassis_that_are_in_no_stack_tell_nothing():
    assert list(told_of([part("a", "chassis", model="M"), part("b", "chassis", model="M")])) == []
    stack = part("s", "stack")
    twice = [part(n, "chassis", inside="s", position=1) for n in "ab"]
    assert list(told_of([stack, *twice])) == []


def test_components_that_hold_each_other_end():
    loop = [part("c", "chassis", inside="m"), part("m", "module", inside="c", firmware="1")]
    assert [fills for fills, _ in told_of(loop)] == ["component"]


# -- two ways


def draft():
    sheet = Sheet(
        format="ovek.sheet/1", name="s", title="", vendor="", models=(),
        boot={"layout": "files", "fallback": "none", "on_bad_image": "next"},
    )  # fmt: skip
    return Draft(sheet, NOW), Interview("one", sheet, WantedDigests((), {}), NOW)


def test_where_two_ways_disagree_the_first_is_kept_and_it_is_told():
    _, one = draft()
    one.adds("ssh", "device", [{"running.version": "1.0", "hardware.model": "SW"}])
    one.adds("snmp", "device", [{"running.version": "1.1", "hardware.serial": "9"}])
    assert one.draft.device == {
        "running": {"version": "1.0"}, "hardware": {"model": "SW", "serial": "9"}
    }  # fmt: skip
    (told,) = one.draft.lost
    assert "snmp reports running.version as 1.1, and before it was 1.0" in told


def test_what_goes_on_between_two_ways_is_no_disagreement():
    _, one = draft()
    volume = {"volume": "flash", "capacity": 10**9, "free": 5 * 10**8}
    one.adds("ssh", "volume", [volume])
    one.adds("snmp", "volume", [{**volume, "free": 5 * 10**8 - 10**6, "removable": False}])
    one.adds("ssh", "device", [{"clock": "2026-01-01T00:00:00+00:00", "hardware.model": "SW-1"}])
    one.adds("snmp", "device", [{"clock": "2026-01-01T00:02:00+00:00", "hardware.model": "sw-1"}])
    assert one.draft.lost == []
    (kept,) = one.draft.members["1"]["volumes"]
    assert (kept["free"], kept["removable"]) == (5 * 10**8, False)
    one.adds("netconf", "volume", [{"volume": "flash", "free": 10**8}])
    assert "volume flash free" in one.draft.lost[0]


# -- NETCONF

BASE = "urn:ietf:params:xml:ns:netconf:base:1.0"
STARTUP = "urn:ietf:params:netconf:capability:startup:1.0"
HARDWARE = """<hardware xmlns="urn:ietf:params:xml:ns:yang:ietf-hardware"
  xmlns:i="urn:ietf:params:xml:ns:yang:iana-hardware">
  <component><name>box</name><class>i:chassis</class><model-name>NC-9</model-name>
    <serial-num>77</serial-num><hardware-rev>D1</hardware-rev><software-rev>4.4</software-rev>
  </component>
  <component><name>card</name><class>i:module</class><parent>box</parent>
    <parent-rel-pos>3</parent-rel-pos><firmware-rev>0.9</firmware-rev></component>
</hardware>"""


class NetconfServer:
    """A server by RFC 6241 and 6242, on a thread of its own; what it was asked is kept.

    `says` are the settings by datastore; one that is None is refused.
    """

    def __init__(self, says=None, *, chunked=True, startup=True, raw=None):
        self.says = says or {"running": "<a>1</a>", "startup": "<a>1</a>"}
        self.chunked, self.startup, self.raw = chunked, startup, raw
        self.asked, self.port = [], 0
        self.ready = threading.Event()
        self.key = asyncssh.generate_private_key("ssh-ed25519")
        threading.Thread(target=lambda: asyncio.run(self._serve()), daemon=True).start()
        assert self.ready.wait(20)

    async def _serve(self):
        class Open(asyncssh.SSHServer):
            def begin_auth(self, username):
                return False

        acceptor = await asyncssh.listen(
            "127.0.0.1", 0, server_factory=Open, server_host_keys=[self.key],
            process_factory=self._talk, encoding=None,
        )  # fmt: skip
        self.port = acceptor.get_port()
        self.ready.set()
        await asyncio.sleep(600)

    async def _talk(self, process):
        if process.subsystem != "netconf":
            process.exit(1)
            return
        abilities = ["urn:ietf:params:netconf:base:1.0"]
        abilities += ["urn:ietf:params:netconf:base:1.1"] if self.chunked else []
        abilities += [STARTUP] if self.startup else []
        told = "".join(f"<capability>{each}</capability>" for each in abilities)
        hello = f'<hello xmlns="{BASE}"><capabilities>{told}</capabilities></hello>'
        process.stdout.write(hello.encode() + b"]]>]]>")
        left = b""
        greeted = False
        while data := await process.stdin.read(2**16):
            left += data
            while True:
                if not greeted or not self.chunked:
                    message, end, rest = left.partition(b"]]>]]>")
                else:
                    message, end, rest = left.partition(b"\n##\n")
                if not end:
                    break
                left = rest
                if greeted:
                    process.stdout.write(self._framed(self._reply(message.decode())))
                greeted = True

    def _reply(self, message):
        self.asked.append(message)
        number = message.partition('message-id="')[2].partition('"')[0]
        if self.raw is not None:
            return self.raw
        body = "<ok/>"
        for source, settings in self.says.items():
            if f"<{source}/>" in message:
                refused = "<rpc-error><error-tag>access-denied</error-tag></rpc-error>"
                body = refused if settings is None else f"<data>{settings}</data>"
        if "ietf-hardware" in message:
            body = f"<data>{HARDWARE}</data>"
        return f'<rpc-reply xmlns="{BASE}" message-id="{number}">{body}</rpc-reply>'

    def _framed(self, text):
        data = text.encode()
        if not self.chunked:
            return data + b"]]>]]>"
        half = len(data) // 2
        pieces = [data[:half], data[half:]]
        return b"".join(b"\n#%d\n%s" % (len(p), p) for p in pieces if p) + b"\n##\n"

    def known(self):
        public = self.key.export_public_key().decode().strip()
        return f"[127.0.0.1]:{self.port} {public}\n"


def read(ovek, server, **keys):
    fleet(ovek, ["netconf"], netconf=server.port, **keys)
    ovek.write("known_hosts", server.known())
    done = ovek("survey", "-v", "--tries", "1", "--answer-limit", "5", exits=None)
    return " ".join(done.stdout.split())


@pytest.mark.parametrize("chunked", [True, False])
@pytest.mark.parametrize(
    ("startup", "unsaved"),
    [("<a>1</a>", False), ("<a>\n 1 </a>", False), ("<a>2</a>", True)],
)
def test_whether_the_settings_are_saved_and_what_it_is_made_of(ovek, chunked, startup, unsaved):
    server = NetconfServer({"running": "<a>1</a>", "startup": startup}, chunked=chunked)
    read(ovek, server)
    one = state(ovek)
    assert one["config"] == {"unsaved_changes": unsaved}
    assert one["hardware"] == {"model": "NC-9", "revision": "D1", "serial": "77"}
    assert one["running"] == {"version": "4.4"}
    assert one["members"][0]["components"] == [{"component": "card", "slot": "3", "version": "0.9"}]
    for asked in server.asked[:-1]:
        assert "<get" in asked
    assert "<close-session/>" in server.asked[-1] or len(server.asked) == 3


def test_a_server_that_saves_by_itself_says_nothing_of_it(ovek):
    read(ovek, NetconfServer(startup=False))
    assert "config" not in state(ovek)


@pytest.mark.parametrize(
    ("settings", "known"),
    [("<a>" * 3_000 + "</a>" * 3_000, False), ("<a>" + "x" * 2**20 + "</a>", True)],
)
def test_settings_that_are_deep_or_large_hold_nobody_up(ovek, settings, known):
    shown = read(ovek, NetconfServer({"running": settings, "startup": settings}))
    assert "defect" not in shown
    assert ("config" in state(ovek)) is known
    assert state(ovek)["hardware"]["model"] == "NC-9"


def test_settings_that_may_not_be_read_are_not_known(ovek):
    shown = read(ovek, NetconfServer({"running": "<a/>", "startup": None}))
    assert "the device does not report the startup settings" in shown
    assert "config" not in state(ovek)
    assert state(ovek)["hardware"]["model"] == "NC-9"


def test_no_setting_is_kept_anywhere(ovek):
    read(ovek, NetconfServer({"running": "<key>hush</key>", "startup": "<key>hush</key>"}))
    import gzip

    for file in ovek.folder.rglob("*"):
        if file.is_file():
            data = file.read_bytes()
            assert b"hush" not in (gzip.decompress(data) if data[:2] == b"\x1f\x8b" else data)


@pytest.mark.parametrize(
    "raw",
    [
        "no xml",
        '<!DOCTYPE a [<!ENTITY b "c">]><rpc-reply message-id="1">&b;</rpc-reply>',
        f'<rpc-reply xmlns="{BASE}" message-id="99"/>',
        "\x00",
        "",
    ],
)
def test_a_server_that_says_something_else_costs_its_own_line(ovek, raw):
    shown = read(ovek, NetconfServer(raw=raw))
    assert "quay" in shown
    assert "defect" not in shown


def test_a_server_without_netconf_is_told(ovek, server):
    port, known = server
    fleet(ovek, ["netconf"], port=port, netconf=port)
    text = (ovek.folder / "fleet.toml").read_text()
    import getpass

    ovek.write("fleet.toml", text.replace('"reader"', f'"{getpass.getuser()}"'))
    ovek.write("known_hosts", known)
    shown = " ".join(ovek("survey", "--tries", "1", exits=3).stdout.split())
    assert "the device offers no NETCONF" in shown
