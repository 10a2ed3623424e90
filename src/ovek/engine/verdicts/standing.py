"""The images of a device that stand by themselves: the one list of them."""

from collections.abc import Iterator

from msgspec import Struct

from ovek.engine.verdicts.judged import JudgedDevice, JudgedMember
from ovek.model.digest import Digests
from ovek.model.place import Place
from ovek.model.snapshot import Device
from ovek.model.verdict import Image, Judgement


class StandingImage(Struct, frozen=True, gc=False):
    """An image that is a file, or a bank that is not made of files.

    `shown` is its place with the member in front where the device has several, `bank` the digests
    that its bank tells.
    """

    device: Device
    member: str
    image: Image
    shown: Place
    bank: Digests | None = None

    @property
    def judgement(self) -> Judgement:
        """What it is worth."""
        return self.image.judgement

    @property
    def release(self) -> str | None:
        """The file name of the release that it was held against."""
        release = self.image.judgement.release
        return release.file if release is not None else None

    @property
    def size(self) -> int | None:
        """Its size in bytes."""
        return self.image.file.size if self.image.file is not None else None

    @property
    def digests(self) -> Digests | None:
        """Its digests; None where none is known."""
        return self.image.file.digests if self.image.file is not None else self.bank


def standing_images(judged: JudgedDevice) -> Iterator[StandingImage]:
    """Go through the images of a device that stand by themselves, member by member."""
    several = len(judged.members or ()) > 1
    for member in judged.members or ():
        own = member.member.id if several else None
        for image in images_of(member):
            bank = member.member.bank(image.place.path) if image.place.is_bank else None
            yield StandingImage(
                judged.device,
                member.member.id,
                image,
                image.place.on(own),
                bank.digests if bank is not None else None,
            )


def images_of(member: JudgedMember) -> Iterator[Image]:
    """Go through the images of a member that stand by themselves: files, then banks."""
    yield from member.images.values()
    yield from (image for image in member.banks.values() if not image.parts)
