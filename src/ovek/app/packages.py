"""What installed packages bring to the audit: rules, and forms of results."""

from collections.abc import Callable, Iterable
from functools import lru_cache
from typing import Any

from ovek.engine.rules import RULES
from ovek.engine.run_rules import order_rules
from ovek.files.packages import RENDERERS, brought
from ovek.files.packages import RULES as PACKAGED
from ovek.model.usage import UsageError


@lru_cache(maxsize=1)
def load_rules() -> None:
    """Enter the rules of installed packages, once. Raises InputError where one is broken.

    A rule that is there already is not replaced, and none speaks for one that there is not.
    """
    packages = brought(PACKAGED)
    for package in packages:
        before = dict(RULES)
        package.load()
        for slug, rule in before.items():
            if RULES[slug] is not rule:
                RULES[slug] = rule
                raise package.wrong(f"brings the rule {slug!r}, which exists already")
        for slug in RULES.keys() - before.keys():
            if unknown := sorted(RULES[slug].speaks_for - RULES.keys()):
                del RULES[slug]
                text = f"its rule {slug!r} speaks for {unknown[0]!r}, which is no rule"
                raise package.wrong(text)
    if packages:
        order_rules()


def renderer_of(result: str, form: str) -> Callable[..., Iterable[bytes]]:
    """What shows a kind of result in a form that a package brings. Raises UsageError, InputError.

    >>> renderer_of("FleetAudit", "nonsense")
    Traceback (most recent call last):
    ovek.model.usage.UsageError: no installed package shows this as 'nonsense'
    """
    for package in brought(RENDERERS):
        if package.name == f"{result}.{form}":
            renderer: Any = package.load()
            if not callable(renderer):
                raise package.wrong("is no function of a result and a view")
            show: Callable[..., Iterable[bytes]] = renderer
            return show
    raise UsageError(f"no installed package shows this as {form!r}", "--format")


def forms() -> set[str]:
    """The forms that packages bring, by the names of --format."""
    return {package.name.rpartition(".")[2] for package in brought(RENDERERS)}
