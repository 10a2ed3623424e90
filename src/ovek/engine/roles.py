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


class Roles:
    """The roles of the files of one volume of a member."""

    def __init__(self, member: JudgedMember, volume: Volume, naming: Naming) -> None:
        self.images, self.sets, self.naming = member.images, member.sets, naming
        self.packages = {part for image in member.sets.values() for part in image.parts}
        self.sure = volume.filesystem is not None
        self.blind = volume.case_blind and self.sure

    def of(self, place: Place) -> Role:
        """The role of one file."""
        image = self.images.get(place)
        if image is not None and image.judgement.verdict == "proven":
            return image.role
        role = self.naming.role(place.path, case_blind=self.blind)
        if role != "unknown":
            return role
        if place in self.sets:
            return "set-file"
        if place in self.packages:
            return "package"
        return image.role if image is not None and self.sure else "unknown"
