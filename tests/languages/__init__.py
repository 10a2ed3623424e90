"""Three languages of devices that nobody makes, spoken by small devices for the tests to teach.

Each is a device that answers what is typed. A saved session is what a person sees who types one
line after another; the same device answers over SSH.
"""

from languages.corrie import Corrie
from languages.harrock import Harrock
from languages.lathe import Lathe
from languages.spoken import Speaker, session

__all__ = ["Corrie", "Harrock", "Lathe", "Speaker", "session"]
