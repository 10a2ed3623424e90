"""What security advisories cost a first audit: very many, some of which are about these devices.

`python benchmarks/advisories.py 10000 50000`. They were parsed before, as every command but the
first finds them; each names four products, one by a hash. One in ten thousand, or in a thousand, is
about a release of these devices: each device then has one or ten findings more for what is running,
and as many for its fallback.
"""

import json
import os
import shutil
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

from generated import FULL, VERSIONS, digest, write_site
from measure import OVEK, Row, at_most, first, in_turn, show, timed

SHARES = (10_000, 1_000)  # one advisory of so many is about a release of the devices


def document(number: int, share: int) -> dict:
    """One advisory with four products, the first of them affected."""
    ours = FULL.format(VERSIONS[number // share % len(VERSIONS)]) if number % share == 0 else None
    file = {"algorithm": "sha512", "value": digest(ours or f"product {number}")}
    hashes = [{"filename": ours or "other.bin", "file_hashes": [file]}]
    products = [{"product_id": f"P{at}", "name": f"Other product {number} {at}"} for at in range(4)]
    products[0]["product_identification_helper"] = {"hashes": hashes}  # type: ignore[assignment]
    return {
        "document": {
            "category": "csaf_security_advisory", "csaf_version": "2.0", "title": f"Hole {number}",
            "publisher": {"category": "vendor", "name": "Oxwick",
                          "namespace": "https://oxwick.example"},
            "tracking": {
                "id": f"OXW-{number:06}", "version": "1", "status": "final",
                "initial_release_date": "2026-01-01T00:00:00Z",
                "current_release_date": "2026-01-01T00:00:00Z",
                "revision_history": [{"number": "1", "date": "2026-01-01T00:00:00Z",
                                      "summary": "First"}],
            },
        },
        "product_tree": {"full_product_names": products},
        "vulnerabilities": [
            {"cve": f"CVE-2026-{10_000 + number}", "product_status": {"known_affected": ["P0"]}}
        ],
    }  # fmt: skip


def rows(devices: int, advisories: int) -> Iterator[Row]:
    """First audits with them against those without."""
    for share in SHARES:
        yield _row(devices, advisories, share)


def _row(devices: int, advisories: int, share: int) -> Row:
    with tempfile.TemporaryDirectory() as name:
        plain, warned = Path(name, "plain"), Path(name, "warned")
        write_site(plain, devices)
        shutil.copytree(plain, warned)
        (warned / "advisories").mkdir()
        for number in range(advisories):
            file = warned / f"advisories/oxw-{number:06}.json"
            file.write_text(json.dumps(document(number, share)))
        os.sync()  # so that writing so many files holds up neither of the two
        parsed = timed(*OVEK, "advisory", "list", "--format", "json", "--site", str(warned))

        def audit(site: Path) -> float:
            return first(*OVEK, "audit", "--format", "json", "--site", str(site)).seconds

        pair = in_turn(3, lambda: audit(warned), lambda: audit(plain))
        return at_most(
            f"first audit of {devices:,} devices with {advisories:,} security advisories, one in "
            f"{share:,} about them, against the same without", 1.2, pair.ratio,
            f"{pair.ours:.1f} s against {pair.other:.1f} s; parsed once in {parsed.seconds:.0f} s",
            f"python benchmarks/advisories.py {devices} {advisories}",
        )  # fmt: skip


if __name__ == "__main__":
    show(rows(*map(int, sys.argv[1:] or ("10000", "50000"))))
