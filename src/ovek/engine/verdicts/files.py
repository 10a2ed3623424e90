"""The images among the files of a volume."""

from collections.abc import Iterator

from ovek.engine.verdicts.cut_names import begun, judge_cut
from ovek.engine.verdicts.digests import judge_file
from ovek.engine.verdicts.file_image import file_image
from ovek.engine.verdicts.judged import Judge, NamedOn
from ovek.model.naming import Named, Naming, is_archive
from ovek.model.place import Place
from ovek.model.snapshot import File, Hardware, Volume
from ovek.model.verdict import Image

_AT_ONCE = 10_000  # files whose names are made ready together


def judge_files(
    volume: Volume,
    hardware: Hardware,
    judge: Judge,
    images: dict[Place, Image],
    named_on: NamedOn,
) -> None:
    """Judge the files of a volume into `images`. This runs for every file: keep it short."""
    blind = volume.case_blind
    releases = judge.releases
    published = releases.by_folded if blind else releases.by_name
    digests_published, own, own_names = releases.by_digest, releases.own, releases.own_by_folded
    sets = {volume.folded(each.set_file) for each in volume.sets or ()}
    started = {volume.folded(p.path) for p in named_on.started if p.volume == volume.name} - sets
    loaded = {volume.folded(p.path) for p in named_on.loaded if p.volume == volume.name}
    used = started | loaded
    for file, path, name, may_be in _named_files(volume.files or (), blind, judge.naming):
        digests = file.digests
        if file.path_cut:
            used_for = (begun(path, started), begun(path, loaded))
            judge_cut(file, volume, hardware, judge, images, used_for)
            continue
        if (
            not may_be
            and name not in published
            and path not in used
            and (
                digests is None
                or (
                    digests.md5 not in digests_published
                    and digests.sha256 not in digests_published
                    and digests.sha512 not in digests_published
                    and digests.sha1 not in digests_published
                )
            )
            and not (own_names and name.casefold() in own_names)
            and not (own and digests is not None and any(digest in own for _, digest in digests))
        ):
            continue
        named = judge.naming.of(file.path, case_blind=blind)
        if named.role == "unknown" and path in started and not is_archive(path):
            named = Named("system-image", True)
        elif named.role == "unknown" and path in loaded:
            named = Named("component-image", True)
        known = published.get(name, [])
        own_name = file.path.rpartition("/")[2]
        judgement = judge_file(
            own_name, file.size, digests, named.image, known, releases, file.size_step
        )
        if judgement is not None:
            judgement = judge.proof.accepted(judgement, digests, releases)
            place = Place(volume.name, file.path)
            images[place] = file_image(place, file, named, judgement, hardware, judge)


def _named_files(
    files: tuple[File, ...], blind: bool, naming: Naming
) -> Iterator[tuple[File, str, str, bool]]:
    """Each file with its path and its own name as they are compared, and if it may be an image.

    Many are made ready at once, and not all.
    """
    for at in range(0, len(files), _AT_ONCE):
        some = files[at : at + _AT_ONCE]
        paths = [file.path.casefold() for file in some] if blind else [file.path for file in some]
        names = [path.rpartition("/")[2] for path in paths]
        may_be = naming.may_be_images(names, paths, blind)
        yield from zip(some, paths, names, may_be, strict=True)
