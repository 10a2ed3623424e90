"""Where images lie off the device: each kind of place a module, found by how it is written."""

from importlib import import_module
from pathlib import Path
from urllib.parse import urlsplit

from ovek.model.fleet import STORES, Shelf
from ovek.sources.stores.interface import ShelfAccess, Store


def store_of(shelf: Shelf, site: Path, access: ShelfAccess) -> Store:
    """What lists and fetches the files of a shelf that is no folder and no archive."""
    kind = STORES[urlsplit(shelf.at).scheme]
    store: Store = import_module(f"{__name__}.{kind}").opened(shelf, site, access)
    return store
