"""Host keys and secrets.

A host key that is not known is refused unless taken by an explicit option; a changed one is always
refused. Passwords come from the environment, the system keyring or a prompt, keys from the agent
or the user's own; none of them is ever written down by Ovek.
"""

import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

import asyncssh

from ovek.files.atomic import write_whole
from ovek.files.decode import read_bytes, text_of
from ovek.files.errors import InputError
from ovek.model.fleet import PASSWORD
from ovek.sources.problem import ReadProblem

PASSPHRASE = "OVEK_KEY_PASSPHRASE"  # noqa: S105 - likewise
SERVICE = "ovek"
_SHORTEST = 4  # characters of a secret that is looked for: a shorter one is part of many words


class HostKeys:
    """The site's `known_hosts`, in the form of OpenSSH's file of that name."""

    def __init__(self, file: Path, *, take_new: bool) -> None:
        self.file, self.take_new = file, take_new
        self._text = text_of(file, read_bytes(file)) if file.exists() else ""
        if self._text and not self._text.endswith("\n"):
            self._text += "\n"
        try:
            self._known = asyncssh.import_known_hosts(self._text)
        except ValueError as error:
            raise InputError(file, f"invalid known_hosts: {error}", "Fix that line") from None
        self._taken: list[str] = []

    def algorithms(self, host: str, port: int) -> list[str]:
        """The algorithms of the keys that are known of a host, so that it shows one of those."""
        trusted = self._known.match(_entry(host, port), "", None)[0]
        return [name.decode() for key in trusted for name in key.sig_algorithms]

    def check(self, host: str, port: int, key: asyncssh.SSHKey) -> None:
        """Raise ReadProblem unless this key may be trusted for this host and port.

        An entry without a port, for a port that has none of its own, may vouch for a key; another
        key there is not known rather than changed.
        """
        trusted, _, revoked, *_ = self._known.match(_entry(host, port), "", None)
        anywhere, _, revoked_anywhere, *_ = self._known.match(host, "", None)
        if key in revoked or key in revoked_anywhere:
            raise ReadProblem(
                "checking the host key",
                f"the host key of {host} port {port} is revoked ({key.get_fingerprint()})",
                f"Do not continue; {self.file.name} marks this key as revoked",
            )
        if trusted and key not in trusted:
            raise ReadProblem(
                "checking the host key",
                f"WARNING: the host key of {host} port {port} has changed "
                f"({key.get_fingerprint()})",
                "Do not continue until you know why. If the device was replaced, delete its "
                "line in "
                f"{self.file.name} and add --take-new-keys",
            )
        if key in trusted or key in anywhere:
            return
        if not self.take_new:
            raise ReadProblem(
                "checking the host key",
                f"unknown host key for {host} port {port} ({key.get_fingerprint()})",
                "Compare it with the key on the device console; if it matches, add --take-new-keys",
            )
        public = key.export_public_key("openssh").decode().strip()
        line = f"{_entry(host, port)} {public}\n"
        self._text += line
        self._known = asyncssh.import_known_hosts(self._text)
        self._taken.append(line)

    def save(self) -> None:
        """Write the keys that were taken, whole or not at all."""
        if self._taken:
            write_whole(self.file, [self._text.encode()])


def _entry(host: str, port: int) -> str:
    """How `known_hosts` names a host: with its port where that is not 22."""
    return host if port == 22 else f"[{host}]:{port}"


class Secrets:
    """Where a password may come from; `prompt` asks a person, once, where nothing else has it.

    Keys that `fleet.toml` names are files of the site's folder, or elsewhere by a whole path.
    """

    def __init__(self, prompt: Callable[[], str] | None = None, folder: Path | None = None) -> None:
        self._prompt = prompt
        self._prompted: str | None = None
        self._folder = folder or Path()
        self._keys: dict[str, asyncssh.SSHKey | asyncssh.SSHKeyPair] = {}
        self._agent: asyncssh.SSHAgentClient | None = None
        self._handed = set[str]()

    def masked(self, text: str) -> str:
        """A message without any secret that was handed out: who is told one may repeat it."""
        for secret in sorted(self._handed, key=len, reverse=True):
            text = text.replace(secret, "•••")
        return text

    def _hand(self, secret: str | None) -> str | None:
        if secret is not None and len(secret) >= _SHORTEST:
            self._handed.add(secret)
        return secret

    async def identity(self, key: str | None) -> dict[str, Any]:
        """What AsyncSSH is told of the key to log in with. Raises ReadProblem.

        Without one, the agent's and the user's own are tried, as OpenSSH does.
        """
        if key is None:
            return {}
        file = self._folder / Path(key).expanduser()
        if key not in self._keys:
            by_agent = file.suffix == ".pub"
            self._keys[key] = await self._of_agent(file) if by_agent else _private_key(file)
        return {"client_keys": [self._keys[key]], "agent_path": None}

    async def _of_agent(self, file: Path) -> asyncssh.SSHKeyPair:
        """The one key of the agent that belongs to a public key. Raises ReadProblem."""
        try:
            public = asyncssh.import_public_key(read_bytes(file))
            self._agent = self._agent or await asyncssh.connect_agent()
            return (await self._agent.get_keys([public.public_data]))[0]
        except InputError as error:
            raise ReadProblem(f"using the key {file}", f"it {error.met}", error.do) from None
        except (OSError, ValueError, IndexError, asyncssh.Error):
            text = "the agent does not have it, or there is no agent"
            do = "Check SSH_AUTH_SOCK, and load the private key into the agent"
            raise ReadProblem(f"using the key {file}", text, do) from None

    def named(self, variable: str, entry: str) -> str | None:
        """A secret from the environment, or the keyring's entry; None: neither has it."""
        return self._hand(os.environ.get(variable) or _from_keyring(entry))

    def password(self, user: str | None, host: str) -> str | None:
        """The password for a user on a host; None where there is none."""
        if told := os.environ.get(PASSWORD) or _from_keyring(f"{user}@{host}"):
            return self._hand(told)
        if self._prompt is not None and self._prompted is None:
            self._prompted = self._prompt()
        return self._hand(self._prompted)


def _private_key(file: Path) -> asyncssh.SSHKey:
    passphrase = os.environ.get(PASSPHRASE) or _from_keyring(file.name)
    try:
        return asyncssh.import_private_key(read_bytes(file), passphrase)
    except InputError as error:
        raise ReadProblem(f"using the key {file}", f"it {error.met}", error.do) from None
    except (asyncssh.KeyImportError, asyncssh.KeyEncryptionError, ValueError) as error:
        do = f"Check key in fleet.toml; a passphrase is taken from {PASSPHRASE} or the keyring"
        raise ReadProblem(f"using the key {file}", str(error).lower(), do) from None


def _from_keyring(name: str) -> str | None:
    """The system keyring's entry (service `ovek`), where the package keyring is installed."""
    try:
        import keyring
    except ImportError:
        return None
    try:
        found: str | None = keyring.get_password(SERVICE, name)
    except keyring.errors.KeyringError:
        return None
    return found
