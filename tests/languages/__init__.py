"""Three languages of devices that nobody makes, spoken by small devices for the tests to teach.

Each is a device that answers what is typed. A saved session is what a person sees who types one
line after another; the same device answers over SSH.
"""

from languages import corrie, harrock, lathe
from languages.spoken import session

LANGUAGES = {"harrock": harrock, "corrie": corrie, "lathe": lathe}
MAKERS = {"harrock": harrock.Harrock, "corrie": corrie.Corrie, "lathe": lathe.Lathe}


def plain(name: str) -> str:
    """The saved session of a language, as the terminal showed it."""
    return session(MAKERS[name](), LANGUAGES[name].TYPED)


def marked(name: str) -> str:
    """The copy with a person's marks in it."""
    text = plain(name)
    for old, new in LANGUAGES[name].MARKS:
        assert text.count(old) >= 1, old
        text = text.replace(old, new, 1)
    return text


def other(name: str) -> str:
    """The saved session of another device of the kind."""
    language = LANGUAGES[name]
    return session(language.OTHER, language.OTHER_TYPED)


__all__ = ["LANGUAGES", "MAKERS", "marked", "other", "plain"]
