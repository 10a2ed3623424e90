"""What each file is for: by the release that proves it, else the sheet's globs and naming, else
the catalog, else the boot settings, sets and pointers; else `unknown`.
"""

from ovek.engine.verdicts import JudgedMember
from ovek.model.naming import Naming
from ovek.model.place import Place
from ovek.model.sheet import Role


def role_of(place: Place, case_blind: bool, naming: Naming, one: JudgedMember) -> Role:
    """The role of one file of a member; `case_blind` is whether its volume is."""
    image = one.images.get(place)
    if image is not None and image.judgement.verdict == "proven":
        return image.role
    named = naming.of(place.path, case_blind=case_blind)
    if named.role != "unknown":
        return named.role
    if place in one.sets:
        return "set-file"
    if any(place in image.parts for image in one.sets.values()):
        return "package"
    return image.role if image is not None else "unknown"
