"""Write docs/formats.md from the schemas of the files; a test holds that it is up to date."""

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from ovek.files.schema import SCHEMAS, schema_text


def page() -> str:
    """The page as it is kept."""
    lines = [
        "# Every file format, key by key",
        "",
        "Made from the code by `scripts/write_formats_page.py`. What the keys mean together, with "
        "examples, is in [files.md](files.md); what commands write is in [results.md](results.md). "
        "Each format has a JSON Schema (draft 2020-12) in [schemas/](schemas).",
        "",
    ]
    for name in SCHEMAS:
        schema = json.loads(schema_text(name))
        kinds = schema["$defs"]
        top = schema["$ref"].rpartition("/")[2]
        title = name.removesuffix(".json").replace("-1", "/1")
        lines += [f"## {title}", "", f"Schema: [`{name}`](schemas/{name}).", ""]
        for kind in (top, *(each for each in kinds if each != top)):
            lines += _kind(kind, kinds[kind])
    return "\n".join(lines).rstrip() + "\n"


def _kind(name: str, schema: dict[str, Any]) -> Iterator[str]:
    """Go through the keys of one kind of object."""
    if "properties" not in schema:
        return
    told = " ".join(schema.get("description", "").split()).replace("|", "\\|")
    yield from (f"### {name}", "", told, "")
    needed = set(schema.get("required", ()))
    yield from ("| key | value | |", "| --- | --- | --- |")
    for key, value in schema["properties"].items():
        rest = "required" if key in needed else _default(value)
        yield f"| `{key}` | {_value(value)} | {rest} |"
    yield ""


def _default(schema: dict[str, Any]) -> str:
    given = schema.get("default")
    return "" if given in (None, [], {}) else f"default: `{json.dumps(given)}`"


def _value(schema: dict[str, Any]) -> str:
    """What a value is, in words."""
    if "$ref" in schema:
        name = schema["$ref"].rpartition("/")[2]
        return f"[{name}](#{name.lower()})"
    if "anyOf" in schema:
        kinds = [each for each in schema["anyOf"] if each.get("type") != "null"]
        return " or ".join(dict.fromkeys(map(_value, kinds)))
    if "enum" in schema:
        return ", ".join(f"`{each}`" for each in schema["enum"])
    kind = schema.get("type", "anything")
    if kind == "array":
        items = schema.get("items")
        return f"list of {_value(items)}" if isinstance(items, dict) else "list"
    if kind == "object":
        inside = schema.get("additionalProperties")
        return f"table of {_value(inside)}" if isinstance(inside, dict) else "table"
    words = {"string": "text", "integer": "whole number", "boolean": "true or false"}
    limits = [f"{told} {schema[key]}" for key, told in _LIMITS.items() if key in schema]
    form = f" ({schema['format']})" if "format" in schema else ""
    return " ".join([words.get(kind, kind) + form, *limits])


_LIMITS = {"minimum": "from", "maximum": "to"}


if __name__ == "__main__":
    (Path(__file__).parent.parent / "docs/formats.md").write_text(page())
