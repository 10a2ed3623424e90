"""The user's cache: what it holds, and removing what is not needed."""

from datetime import timedelta

from platformdirs import user_cache_path

from ovek.files.cache_content import MOST_AGE, MOST_BYTES, cached, removable, remove
from ovek.model.results.cached import CacheContent


def cache_content(
    older: timedelta | None = None, most: int | None = None, *, clear: bool = False
) -> CacheContent:
    """What the cache holds once what is asked for is removed: all, or what is old or too much.

    `older` is since when an entry was not used, `most` the bytes that may stay.
    """
    entries, removed = cached(), []
    if clear:
        removed = remove(entries)
    elif older is not None or most is not None:
        age, size = MOST_AGE if older is None else older, MOST_BYTES if most is None else most
        removed = remove(removable(entries, age, size))
    return CacheContent(
        folder=str(user_cache_path("ovek")),
        entries=[entry for entry in entries if entry not in removed],
        removed=removed,
        most_bytes=MOST_BYTES,
        most_days=MOST_AGE.days,
    )
