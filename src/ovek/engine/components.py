"""What each component of a member loads at its next reload.

1. One that is loaded from a place has the version of the image that lies there then; where nothing
   is known of that, nor is its version.
2. Any other has the newest of what it has and what the image that boots carries for it.
3. A component in a slot is one by itself.
"""

from collections.abc import Iterator

from msgspec import Struct
from msgspec.structs import replace

from ovek.engine.verdicts import JudgedDevice, JudgedMember
from ovek.model.place import Place
from ovek.model.snapshot import Component
from ovek.model.verdict import Image, KnownRelease
from ovek.model.version import compare


class Loaded(Struct, frozen=True, kw_only=True):
    """A component as it will be after the next reload.

    `then` is its version then (None: not known), `place` where it is loaded from and `image` what
    lies there; both None where it is loaded from no place.
    """

    component: Component
    then: str | None
    place: Place | None = None
    image: Image | None = None


def loaded(
    judged: JudgedDevice, member: JudgedMember, boots: KnownRelease | None
) -> Iterator[Loaded]:
    """Go through the components of a member as they will be once it booted a release."""
    scheme = judged.judge.sheet.versions.components.pattern
    for component in member.member.components or ():
        named = component.place
        if named is not None:
            place = judged.located(named, member.member.id)
            image = None if place.is_folder else judged.image(place)
            then = _version(image, component.component)
            yield Loaded(component=component, then=then, place=place, image=image)
            continue
        brings = boots.carries.get(component.component) if boots is not None else None
        then = component.version
        if brings is not None and (then is None or compare(brings, then, scheme) == 1):
            then = brings
        yield Loaded(component=component, then=then)


def _version(image: Image | None, name: str) -> str | None:
    """The version of a component's firmware in an image: as its release tells, else the image's."""
    if image is None:
        return None
    release = image.judgement.release
    if image.judgement.verdict in ("altered", "truncated"):
        return None
    return (release.carries.get(name) if release is not None else None) or image.version


def at_reload(judged: JudgedDevice, member: JudgedMember) -> tuple[Component, ...] | None:
    """The components of a member with the versions that they load at the next reload.

    What the image that boots carries is left out; None: the components are not known.
    """
    if member.member.components is None:
        return None
    return tuple(
        each.component
        if each.place is None or each.then is None
        else replace(each.component, version=each.then)
        for each in loaded(judged, member, None)
    )
