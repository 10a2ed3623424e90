"""Write docs/formats.md and docs/result-keys.md from the schemas; a test holds them up to date.

An object is named by the path of the key that it stands under, never by a type of the code.
"""

import json
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from ovek.files.result_schema import result_schema_text, result_types, schema_name
from ovek.files.schema import SCHEMAS, schema_text

DOCS = Path(__file__).parent.parent / "docs"
_LIMITS = {"minimum": "from", "maximum": "to"}
_WORDS = {"string": "text", "integer": "whole number", "boolean": "true or false"}


def page() -> str:
    """The page of what Ovek reads, as it is kept."""
    head = (
        "# Every file format, key by key",
        "Made from the code by `scripts/write_formats_page.py`. What the keys mean together, with "
        "examples, is in [files.md](files.md); what commands write is in "
        "[result-keys.md](result-keys.md). Each format has a JSON Schema (draft 2020-12) in "
        "[schemas/](schemas).",
    )
    files = {
        name.removesuffix(".json").replace("-1", "/1"): (name, schema_text(name))
        for name in SCHEMAS
    }
    return _page(head, files)


def result_page() -> str:
    """The page of what Ovek writes, as it is kept."""
    head = (
        "# Every JSON result, key by key",
        "Made from the code by `scripts/write_formats_page.py`. What the keys mean together is in "
        "[results.md](results.md). Each format has a JSON Schema (draft 2020-12) in "
        "[schemas/](schemas), which the package has, too, in `ovek/files/schemas`. With "
        "`--format jsonl` each line is one entry of the format's list, e.g. `devices[]`. Keys may "
        "be added while the number of a format stays: read what you know, and ignore the rest.",
    )
    results = {form: (schema_name(form), result_schema_text(form)) for form in result_types()}
    return _page(head, results)


def _page(head: tuple[str, str], formats: dict[str, tuple[str, str]]) -> str:
    lines = [head[0], "", head[1], ""]
    for title, (file, text) in formats.items():
        lines += [f"## {title}", "", f"Schema: [`{file}`](schemas/{file}).", ""]
        lines += _Format(title, json.loads(text)).lines()
    return "\n".join(lines).rstrip() + "\n"


class _Format:
    """One format: its objects, each by the path of keys that leads to it first."""

    def __init__(self, title: str, schema: dict[str, Any]) -> None:
        self.title, self._parts = title, schema["$defs"]
        tops = [part["$ref"] for part in schema.get("anyOf", [schema])]
        self._tops = [_name(ref) for ref in tops]
        self._paths: dict[str, str] = dict.fromkeys(self._tops, "")
        waiting = list(self._tops)
        while waiting:
            kind = waiting.pop(0)
            for key, value in self._parts[kind].get("properties", {}).items():
                for inside, path in _references(value, f"{self._paths[kind]}.{key}".lstrip(".")):
                    if inside not in self._paths:
                        self._paths[inside] = path
                        waiting.append(inside)

    def lines(self) -> Iterator[str]:
        """Go through the objects, the format itself first."""
        for kind in self._paths:
            schema = self._parts[kind]
            if "properties" not in schema:
                continue
            if self._paths[kind]:
                yield from (f"### {self._heading(kind)}", "")
            elif len(self._tops) > 1:
                yield from (f"### {self.title}: {_first_words(schema)}", "")
            yield from (self._text(schema), "", "| key | value | |", "| --- | --- | --- |")
            needed = set(schema.get("required", ()))
            for key, value in schema["properties"].items():
                rest = "required" if key in needed else _default(value)
                yield f"| `{key}` | {self._value(value)} | {rest} |"
            yield ""

    def _heading(self, kind: str) -> str:
        return f"`{self._paths[kind]}` of {self.title}"

    def _text(self, schema: dict[str, Any]) -> str:
        """What is said of an object, with paths where types are named."""
        text = " ".join(schema.get("description", "").split()).replace("|", "\\|")
        for kind, path in self._paths.items():
            text = re.sub(rf"`{kind}`", f"`{path or self.title}`", text)
        return text

    def _value(self, schema: dict[str, Any]) -> str:
        """What a value is, in words."""
        if "$ref" in schema:
            kind = _name(schema["$ref"])
            if "properties" not in self._parts[kind]:
                return self._value(self._parts[kind])
            anchor = re.sub(r"[^\w\- ]", "", self._heading(kind).lower()).replace(" ", "-")
            return f"[`{self._paths[kind]}`](#{anchor})"
        if "anyOf" in schema:
            kinds = [each for each in schema["anyOf"] if each.get("type") != "null"]
            none = [] if len(kinds) == len(schema["anyOf"]) else ["null"]
            return " or ".join(dict.fromkeys([*map(self._value, kinds), *none]))
        if "enum" in schema:
            return ", ".join(f"`{each}`" for each in schema["enum"])
        kind = schema.get("type", "anything")
        if kind == "array":
            items = schema.get("items")
            return f"list of {self._value(items)}" if isinstance(items, dict) else "list"
        if kind == "object":
            inside = schema.get("additionalProperties")
            return f"table of {self._value(inside)}" if isinstance(inside, dict) else "table"
        limits = [f"{told} {schema[key]}" for key, told in _LIMITS.items() if key in schema]
        form = f" ({schema['format']})" if "format" in schema else ""
        return " ".join([_WORDS.get(kind, kind) + form, *limits])


def _name(reference: str) -> str:
    return reference.rpartition("/")[2]


def _references(value: Any, path: str) -> Iterator[tuple[str, str]]:
    """Go through the objects that a value may be or hold, each with its path."""
    if not isinstance(value, dict):
        return
    if "$ref" in value:
        yield _name(value["$ref"]), path
    for each in value.get("anyOf", ()):
        yield from _references(each, path)
    if value.get("type") == "array":
        yield from _references(value.get("items"), f"{path}[]")
    if value.get("type") == "object":
        yield from _references(value.get("additionalProperties"), f"{path}.NAME")


def _first_words(schema: dict[str, Any]) -> str:
    """The first sentence of what is said of an object."""
    first = " ".join(schema.get("description", "").split()).partition(". ")[0].rstrip(".")
    return first[:1].lower() + first[1:]


def _default(schema: dict[str, Any]) -> str:
    given = schema.get("default")
    return "" if given in (None, [], {}) else f"default: `{json.dumps(given)}`"


if __name__ == "__main__":
    (DOCS / "formats.md").write_text(page())
    (DOCS / "result-keys.md").write_text(result_page())
