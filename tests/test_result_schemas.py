"""Every result is what its published schema says, and has no key that the schema does not name."""

import json
import shlex
from importlib import resources
from pathlib import Path
from typing import Any

import pytest
from jsonschema import Draft202012Validator

from conftest import Ovek
from ovek.demo import write_site
from ovek.files.result_schema import result_schema_text, result_types, schema_name

DOCS = Path(__file__).parent.parent / "docs/schemas"
TYPED = (
    "audit", "audit arle-quay --may-drop running", "audit --only proof-old",
    "bootwalk", "bootwalk brack-hall --if-saved", "bootwalk brack-pier",
    "cleanup gannet-bridge --free 60MiB", "cleanup --whole-fleet --room-for target",
    "cleanup gannet-bridge --free 60MiB --confirm snapshots/2026-11-20.jsonl", "cleanup --free 20%",
    "runbook", "runbook brack-slip --confirm 2026-11-20",
    "compare before-7.4.2", "compare before-7.4.2 --expect target", "compare --baseline today",
    "catalog check", "catalog find 7.4.2", "catalog list", "catalog path brack-slip --to 7.4.2",
    "catalog path 7.2.5 --to 7.4.2", "catalog pick brack-slip", "catalog pick arle-wifi",
    "catalog show tv8_5.1.4.tvf",
    "shelf stick", "shelf stick --for brack-slip", "custody *", "where 7.4.2",
    "where 7.3*",
    "history add", "history device arle-core", "history image 7.4.1",
    "history finding no-fallback", "history trend",
    "rules", "rules stranded", "policy check", "sheet fields",
    "sheet learn my-core sessions/arle-core-marked.txt",
    "sheet try oxwick-40 sessions/arle-core.txt", "settings", "settings -v",
    "cache", "cache --older 1d",
    "advisory list", "advisory show OXW-2026-003", "advisory import advisories", "catalog keys",
    "survey arle-core --capture sessions/arle-core.txt", "survey --prune 1d",
)  # fmt: skip


def strict(part: Any) -> Any:
    """The same schema, which allows no key that it does not name."""
    if isinstance(part, list):
        return [strict(each) for each in part]
    if not isinstance(part, dict):
        return part
    whole = {key: strict(value) for key, value in part.items()}
    return whole | {"additionalProperties": False} if "properties" in part else whole


def validator(form: str) -> Draft202012Validator:
    schema = json.loads(result_schema_text(form))
    Draft202012Validator.check_schema(schema)
    return Draft202012Validator(strict(schema))


@pytest.fixture(scope="module")
def told(tmp_path_factory) -> dict[str, Any]:
    """What every command says of the sample, in order: some change it."""
    folder = tmp_path_factory.mktemp("sample") / "site"
    write_site(folder)
    ovek = Ovek(folder)
    found = {}
    for typed in TYPED:
        done = ovek(*shlex.split(typed.replace("*", "'*'")), "--format", "json", exits=None)
        assert done.returncode != 2, (typed, done.stderr)
        found[typed] = json.loads(done.stdout)
    return found


def test_every_result_is_what_its_schema_says(told):
    for typed, result in told.items():
        wrong = [
            (typed, "/".join(map(str, error.absolute_path)), error.message[:300])
            for error in validator(result["format"]).iter_errors(result)
        ]
        assert wrong == []


def test_no_format_is_left_out(told):
    assert {result["format"] for result in told.values()} == set(result_types())


@pytest.mark.parametrize("form", result_types())
def test_a_key_that_is_missing_new_or_of_another_kind_is_found(told, form):
    result = next(result for result in told.values() if result["format"] == form)
    check = validator(form)
    assert check.is_valid(result)
    assert not check.is_valid(result | {"new": 1})
    assert not check.is_valid(result | {"format": "ovek.other/1"})
    kind = next(key for key, value in result.items() if isinstance(value, list))
    assert not check.is_valid(result | {kind: 7})
    assert not check.is_valid({key: value for key, value in result.items() if key != kind})


@pytest.mark.parametrize("form", result_types())
def test_what_is_published_is_what_the_code_says(form):
    name = schema_name(form)
    package = resources.files("ovek.files") / "schemas" / name
    assert (DOCS / name).read_text() == package.read_text() == result_schema_text(form)
