"""Write the published JSON Schemas of files and results, with the package and in docs/."""

from pathlib import Path

from ovek.files.result_schema import result_schema_text, result_types, schema_name
from ovek.files.schema import SCHEMAS, schema_text

ROOT = Path(__file__).parent.parent

texts = {name: schema_text(name) for name in SCHEMAS}
texts |= {schema_name(form): result_schema_text(form) for form in result_types()}
for folder in (ROOT / "src/ovek/files/schemas", ROOT / "docs/schemas"):
    folder.mkdir(parents=True, exist_ok=True)
    for name, text in texts.items():
        (folder / name).write_text(text)
