"""Write the published JSON Schemas, with the package and in docs/."""

from pathlib import Path

from ovek.files.schema import SCHEMAS, schema_text

ROOT = Path(__file__).parent.parent

for name in SCHEMAS:
    for folder in (ROOT / "src/ovek/files/schemas", ROOT / "docs/schemas"):
        folder.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(schema_text(name))
