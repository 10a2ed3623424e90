"""A real OpenSSH server on loopback: SFTP, programs, and boot environments of real tools."""

import asyncio
import getpass
import hashlib
import json
import shutil
import socket
import subprocess
import time

import asyncssh
import pytest

from ovek.sources.ssh import CIPHERS
from servers import SSHD, free_port


def box(ovek, server, sheet, boot_file):
    """A site with one white box behind the server, read by a ready sheet with its own paths."""
    port, known = server
    images = ovek.folder / "images"
    for slot, version in (("a", "1.0"), ("b", "2.0")):
        (images / slot).mkdir(parents=True)
        (images / slot / f"white-{version}.img").write_text(f"image {version}")
    (images / "a/with blank & more.log").write_text("log")
    (images / "link.img").symlink_to("/etc/passwd")
    from ovek.files.sheets import find_sheet

    text = find_sheet(ovek.folder, sheet).read_text()
    for path in ("/boot/grub/grubenv", "/boot/uboot.env"):
        text = text.replace(path, str(boot_file))
    text = text.replace('path = "/images"', f'path = "{images}"')
    ovek.write(f"sheets/{sheet}.toml", text)
    ovek.write(
        "fleet.toml",
        f'name = "Test"\n[[device]]\nname = "box"\nsheet = "{sheet}"\naccess = ["sftp", "ssh"]\n'
        f'host = "127.0.0.1"\nport = {port}\nuser = "{getpass.getuser()}"\n',
    )
    ovek.write("known_hosts", known)
    releases = [
        {
            "file": f"white-{version}.img",
            "version": version,
            "size": len(f"image {version}"),
            "digests": {"sha256": hashlib.sha256(f"image {version}".encode()).hexdigest()},
        }
        for version in ("1.0", "2.0")
    ]
    ovek.write("catalog/box.json", json.dumps({"format": "ovek.catalog/1", "releases": releases}))


def needs(program):
    if shutil.which(program) is None:
        pytest.skip(f"{program} is not installed (.ci/run installs it)")


def state(ovek):
    file = max((ovek.folder / "snapshots").glob("2*.jsonl"))
    return json.loads(file.read_text())


def test_a_white_box_with_grub_is_read_and_walked(ovek, server, tmp_path):
    needs("grub-editenv")
    block = tmp_path / "grubenv"
    subprocess.run(["grub-editenv", block, "create"], check=True)
    subprocess.run(["grub-editenv", block, "set", "saved_entry=Slot B"], check=True)
    box(ovek, server, "linux-grub", block)
    result = ovek.json("survey")
    assert result["devices"][0]["result"] == "read"
    one = state(ovek)["members"][0]
    paths = [file["path"] for file in one["volumes"][0]["files"]]
    assert sorted(paths) == ["a/white-1.0.img", "a/with blank & more.log", "b/white-2.0.img"]
    assert one["volumes"][0]["free"] <= one["volumes"][0]["capacity"]
    walk = ovek.json("bootwalk", "box")["devices"][0]["members"][0]
    assert walk["boots"] == {
        "at": "1/bank:b",
        "by": "sha256",
        "place": "bank:b",
        "verdict": "proven",
        "version": "2.0",
    }
    subprocess.run(["grub-editenv", block, "set", "next_entry=Slot A"], check=True)
    time.sleep(1.1)
    ovek("survey")
    walk = ovek.json("bootwalk", "box")["devices"][0]["members"][0]
    assert [each["origin"] for each in walk["tried"]] == ["once"]
    assert walk["boots"]["version"] == "1.0"


def test_a_white_box_with_a_u_boot_block_is_read_and_walked(ovek, server, tmp_path):
    needs("mkenvimage")
    source, block = tmp_path / "env.txt", tmp_path / "uboot.env"
    source.write_text("boot_slot=A\nother=1\n")
    subprocess.run(["mkenvimage", "-s", "4096", "-o", block, source], check=True)
    box(ovek, server, "linux-u-boot", block)
    ovek("survey")
    assert ovek.json("bootwalk", "box")["devices"][0]["members"][0]["boots"]["place"] == "bank:a"
    data = bytearray(block.read_bytes())
    data[30] ^= 1
    block.write_bytes(data)
    time.sleep(1.1)
    told = ovek.json("survey", exits=3)["devices"][0]
    assert told["result"] == "partly read"
    assert any("CRC-32" in note for note in told["notes"])


def test_without_a_checksum_program_a_file_is_read_through(ovek, server, tmp_path):
    block = tmp_path / "grubenv"
    block.write_text("# GRUB Environment Block\nsaved_entry=Slot A\n".ljust(1024, "#"))
    box(ovek, server, "linux-grub", block)
    sheet = ovek.folder / "sheets/linux-grub.toml"
    lines = sheet.read_text().splitlines()
    sheet.write_text("\n".join(line for line in lines if not line.startswith("digest_program")))
    ovek("survey", "--rate", "10MB")
    files = state(ovek)["members"][0]["volumes"][0]["files"]
    digests = {one["path"]: one.get("digests", {}).get("sha256") for one in files}
    assert digests["a/white-1.0.img"] == hashlib.sha256(b"image 1.0").hexdigest()


def test_a_volume_that_is_not_there_is_absent(ovek, server, tmp_path):
    block = tmp_path / "grubenv"
    block.write_text("# GRUB Environment Block\nsaved_entry=Slot A\n".ljust(1024, "#"))
    box(ovek, server, "linux-grub", block)
    shutil.rmtree(ovek.folder / "images")
    ovek("survey", exits=None)
    assert state(ovek)["members"][0]["volumes"][0]["state"] == "absent"


def forced(server, tmp_path, line):
    """The same server with an account that is forced to something."""
    config = tmp_path / "sshd_config"
    config.write_text(config.read_text() + line)
    port = free_port()
    config.write_text(config.read_text().replace(f"Port {server[0]}", f"Port {port}"))
    process = subprocess.Popen([SSHD, "-D", "-e", "-f", config], stderr=subprocess.DEVNULL)
    for _ in range(100):
        with socket.socket() as one:
            if one.connect_ex(("127.0.0.1", port)) == 0:
                break
        time.sleep(0.1)
    return process, (port, server[1].replace(f":{server[0]}", f":{port}"))


@pytest.mark.parametrize("line", ["ForceCommand internal-sftp\n"])
def test_an_account_for_sftp_only_has_its_files_read_through(ovek, server, tmp_path, line):
    process, reached = forced(server, tmp_path, line)
    try:
        block = tmp_path / "grubenv"
        block.write_text("# GRUB Environment Block\nsaved_entry=Slot A\n".ljust(1024, "#"))
        box(ovek, reached, "linux-grub", block)
        told = ovek.json("survey", "--tries", "1", exits=3)["devices"][0]
    finally:
        process.terminate()
        process.wait()
    files = state(ovek)["members"][0]["volumes"][0]["files"]
    digests = {one["path"]: one.get("digests", {}).get("sha256") for one in files}
    assert digests["a/white-1.0.img"] == hashlib.sha256(b"image 1.0").hexdigest()
    assert any("no program may be run" in note for note in told["notes"])


def test_a_file_that_a_program_cannot_read_costs_itself(ovek, server, tmp_path):
    block = tmp_path / "grubenv"
    block.write_text("# GRUB Environment Block\nsaved_entry=Slot A\n".ljust(1024, "#"))
    box(ovek, server, "linux-grub", block)
    sheet = ovek.folder / "sheets/linux-grub.toml"
    odd = "sha256sum -- {path}.gone"
    sheet.write_text(sheet.read_text().replace("sha256sum -- {path}", odd))
    told = ovek.json("survey", exits=None)["devices"][0]
    assert sum("ended with 1" in note for note in told["notes"]) == 2
    files = state(ovek)["members"][0]["volumes"][0]["files"]
    assert not any(one.get("digests") for one in files)


def test_a_version_in_quotes_is_read_without_them(ovek, server, tmp_path):
    block = tmp_path / "grubenv"
    block.write_text("# GRUB Environment Block\nsaved_entry=Slot A\n".ljust(1024, "#"))
    box(ovek, server, "linux-grub", block)
    release = ovek.write(
        "os-release", "# who\nNAME='Deck OS'\nVERSION_ID=\"4.1\"\nlower_case=x\n\n"
    )
    sheet = ovek.folder / "sheets/linux-grub.toml"
    sheet.write_text(sheet.read_text().replace("/etc/os-release", str(release)))
    ovek("survey")
    assert state(ovek)["running"]["version"] == "4.1"


@pytest.mark.parametrize(
    ("server", "cipher"),
    [
        ("", "aes256-gcm@openssh.com"),  # of all that it has, though it likes another best
        (
            "Ciphers aes128-gcm@openssh.com,chacha20-poly1305@openssh.com\n",
            "aes128-gcm@openssh.com",
        ),
        ("Ciphers chacha20-poly1305@openssh.com\n", "chacha20-poly1305@openssh.com"),
        ("Ciphers aes192-ctr\n", "aes192-ctr"),
    ],
    indirect=["server"],
)
def test_the_fastest_cipher_of_both_sides_is_taken_and_any_other_where_it_is_missing(
    server, cipher, tmp_path
):
    port, _ = server

    async def connected():
        async with asyncssh.connect(
            "127.0.0.1", port, known_hosts=None, username=getpass.getuser(), config=None,
            client_keys=[str(tmp_path / "home/.ssh/id_ed25519")], encryption_algs=CIPHERS,
        ) as connection:  # fmt: skip
            return connection.get_extra_info("recv_cipher")

    assert asyncio.run(connected()) == cipher
