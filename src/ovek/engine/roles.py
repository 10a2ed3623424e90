"""What each file is for: by the release that proves it, else the sheet's globs and naming, else
the catalog, else the boot settings, sets and pointers; else `unknown`.

Where the file system is not known, and so whether case matters, a file is for what its name says as
it is spelled, or its use is not known.
"""

from ovek.engine.verdicts import JudgedMember
from ovek.model.naming import Naming
from ovek.model.place import Place
from ovek.model.sheet import Role
from ovek.model.snapshot import Volume


def role_of(place: Place, volume: Volume, naming: Naming, one: JudgedMember) -> Role:
    """The role of one file of a volume of a member."""
    image = one.images.get(place)
    if image is not None and image.judgement.verdict == "proven":
        return image.role
    sure = volume.filesystem is not None
    named = naming.of(place.path, case_blind=volume.case_blind and sure)
    if named.role != "unknown":
        return named.role
    if place in one.sets:
        return "set-file"
    if any(place in image.parts for image in one.sets.values()):
        return "package"
    return image.role if image is not None and sure else "unknown"
