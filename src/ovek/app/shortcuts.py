"""Whether what was found before is used again; without it, everything is found anew.

Nothing that comes out may depend on it, which tests hold by turning it off.
"""

import os

OFF = "OVEK_NO_SHORTCUTS"


def takes_shortcuts() -> bool:
    """Whether results are kept, and shared by devices alike: unless `OVEK_NO_SHORTCUTS` is set."""
    return not os.environ.get(OFF)
