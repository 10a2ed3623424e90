"""The errors that use cases raise."""

from ovek.files.errors import DamagedError, InputError, ManyInputError
from ovek.model.usage import UsageError

__all__ = ["DamagedError", "InputError", "ManyInputError", "UsageError"]
