"""Boot environments of GRUB and U-Boot, made by hand and by their own programs."""

import shutil
import subprocess
import zlib

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ovek.files.bootenv import BootEnvError, read_grub_env, read_u_boot_env

names = st.text("abc_", min_size=1)
values = st.text(st.characters(codec="ascii", exclude_characters="\0\n\r"))
settings = st.dictionaries(names, values)


def needs(program: str) -> None:
    if shutil.which(program) is None:
        pytest.skip(f"{program} is not installed (.ci/run installs it)")


def grub_block(variables):
    lines = "".join(f"{name}={value}\n".replace("\\", "\\\\") for name, value in variables.items())
    block = f"# GRUB Environment Block\n{lines}"
    return block.ljust(1024, "#").encode()


@given(settings)
def test_a_grub_block_is_read_as_written(variables):
    assert read_grub_env(grub_block(variables)) == variables


@given(settings, st.booleans())
def test_a_u_boot_block_is_read_as_written(variables, redundant):
    body = b"".join(f"{name}={value}\0".encode() for name, value in variables.items()) + b"\0"
    body = body.ljust(4096, b"\xff" if variables else b"\0")
    head = zlib.crc32(body).to_bytes(4, "little") + (b"\x01" if redundant else b"")
    assert read_u_boot_env(head + body) == variables


def test_the_text_of_a_u_boot_environment_is_read():
    assert read_u_boot_env(b"boot_slot=A\nargs=a=b c\n") == {"boot_slot": "A", "args": "a=b c"}


@pytest.mark.parametrize(
    ("read", "data"),
    [
        (read_grub_env, b""),
        (read_grub_env, b"saved_entry=1\n"),
        (read_grub_env, b"# GRUB Environment Block\nnonsense\n"),
        (read_u_boot_env, b"\0\0\0\0a=b\0\0"),
        (read_u_boot_env, b"no equals sign here\n"),
    ],
)
def test_what_is_no_boot_environment_is_refused(read, data):
    with pytest.raises(BootEnvError):
        read(data)


def test_a_flipped_bit_in_a_u_boot_block_is_noticed():
    body = b"boot_slot=A\0\0".ljust(64, b"\0")
    block = bytearray(zlib.crc32(body).to_bytes(4, "little") + body)
    block[20] ^= 1
    with pytest.raises(BootEnvError, match="CRC-32"):
        read_u_boot_env(bytes(block))


def test_a_block_that_grub_editenv_made_is_read(tmp_path):
    needs("grub-editenv")
    file = tmp_path / "grubenv"
    subprocess.run(["grub-editenv", file, "create"], check=True)
    wanted = {"saved_entry": "Slot A", "next_entry": "Slot B", "odd": "back\\slash = #"}
    pairs = [f"{name}={value}" for name, value in wanted.items()]
    subprocess.run(["grub-editenv", file, "set", *pairs], check=True)
    assert read_grub_env(file.read_bytes()) == wanted


@pytest.mark.parametrize("more", [[], ["-r"]])
def test_a_block_that_mkenvimage_made_is_read(tmp_path, more):
    needs("mkenvimage")
    source, block = tmp_path / "env.txt", tmp_path / "uboot.env"
    source.write_text("boot_slot=B\nboot_once=A\nargs=console=ttyS0 slot=b\n")
    subprocess.run(["mkenvimage", "-s", "8192", *more, "-o", block, source], check=True)
    found = read_u_boot_env(block.read_bytes())
    assert found == {"boot_slot": "B", "boot_once": "A", "args": "console=ttyS0 slot=b"}
