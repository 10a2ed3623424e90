"""The JSON Schemas (draft 2020-12) of Ovek's own formats, made from the types that read them."""

import json
from inspect import cleandoc
from typing import Any

import msgspec

from ovek.files.catalog import CatalogFile
from ovek.model.fleet import Fleet
from ovek.model.policy import Policy
from ovek.model.sheet import Sheet
from ovek.model.signature import SigningKeys
from ovek.model.snapshot import Device
from ovek.model.waiver import Waivers

SCHEMAS: dict[str, Any] = {
    "ovek.snapshot-1.json": Device,
    "ovek.catalog-1.json": CatalogFile,
    "ovek.sheet-1.json": Sheet,
    "ovek.fleet-1.json": Fleet,
    "ovek.policy-1.json": Policy,
    "ovek.waivers-1.json": Waivers,
    "ovek.keys-1.json": SigningKeys,
}


def schema_text(name: str) -> str:
    """The schema of one format, as its file holds it; a snapshot's is that of one line."""
    schema = plain_schema(msgspec.json.schema(SCHEMAS[name]))
    schema = {"$schema": "https://json-schema.org/draft/2020-12/schema", **schema}
    return json.dumps(schema, indent=1, sort_keys=True) + "\n"


def plain_schema(part: Any) -> Any:
    """The same part of a schema, as every version of Python and msgspec would make it.

    Some leave the indents of docstrings in descriptions; some say which keys an object may have.
    """
    if isinstance(part, dict):
        return {
            key: cleandoc(each)
            if key == "description" and isinstance(each, str)
            else plain_schema(each)
            for key, each in part.items()
            if key != "propertyNames"
        }
    return [plain_schema(each) for each in part] if isinstance(part, list) else part
