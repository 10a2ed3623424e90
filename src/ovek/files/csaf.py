"""Reads CSAF 2.0 and 2.1 documents (OASIS): security advisories and VEX statements.

What Ovek does not use is ignored. A document is bounded in size, in depth and in how many products
it has; one that is damaged, of another version or of another kind is refused with one message.
"""

from collections.abc import Iterable, Iterator
from datetime import datetime
from pathlib import Path
from typing import Any

import msgspec
from msgspec import Struct, field

from ovek.files.decode import read_bytes
from ovek.files.errors import InputError
from ovek.model.advisory import Advisory, AdvisoryProduct, Remedy, Standing, Vulnerability
from ovek.model.digest import LENGTHS, Algorithm

LARGEST = 32 * 2**20  # bytes of one document
_DEEPEST = 64  # branches in branches; the standard's own limit is 30
_MOST_PRODUCTS = 100_000
_DO = "Get the document again from its publisher"
_HASHES: dict[str, Algorithm] = {
    "sha512": "sha512", "sha256": "sha256", "sha1": "sha1", "sha-1": "sha1", "md5": "md5",
    "sha-256": "sha256", "sha-512": "sha512", "sha2-256": "sha256", "sha2-512": "sha512",
}  # fmt: skip
_STANDINGS: dict[Standing, tuple[str, ...]] = {
    "affected": ("known_affected", "first_affected", "last_affected"),
    "under investigation": ("under_investigation",),
    "not affected": ("known_not_affected",),
    "fixed": ("fixed", "first_fixed"),
}


class _Publisher(Struct):
    name: str


class _Tracking(Struct):
    id: str
    version: str
    status: str
    current_release_date: datetime


class _Severity(Struct):
    text: str


class _Document(Struct):
    category: str
    csaf_version: str
    title: str
    publisher: _Publisher
    tracking: _Tracking
    aggregate_severity: _Severity | None = None


class _FileHash(Struct):
    algorithm: str
    value: str


class _FileHashes(Struct):
    file_hashes: list[_FileHash] = []


class _Helper(Struct):
    hashes: list[_FileHashes] = []


class _Product(Struct):
    product_id: str
    name: str
    helper: _Helper | None = field(default=None, name="product_identification_helper")


class _Branch(Struct):
    category: str
    name: str
    branches: list["_Branch"] = []
    product: _Product | None = None


class _Relationship(Struct):
    product_reference: str
    full_product_name: _Product


class _Group(Struct):
    group_id: str
    product_ids: list[str] = []


class _Tree(Struct):
    branches: list[_Branch] = []
    full_product_names: list[_Product] = []
    relationships: list[_Relationship] = []
    product_groups: list[_Group] = []


class _Cvss(Struct):
    score: float | None = field(default=None, name="baseScore")


class _Scores(Struct):
    cvss_v2: _Cvss | None = None
    cvss_v3: _Cvss | None = None
    cvss_v4: _Cvss | None = None


class _Metric(Struct):
    content: _Scores = field(default_factory=_Scores)


class _Remediation(Struct):
    category: str
    details: str
    product_ids: list[str] = []
    group_ids: list[str] = []


class _Id(Struct):
    text: str


class _Vulnerability(Struct):
    cve: str | None = None
    ids: list[_Id] = []
    title: str | None = None
    product_status: dict[str, list[str]] = {}
    scores: list[_Scores] = []
    metrics: list[_Metric] = []
    remediations: list[_Remediation] = []


class _Csaf(Struct):
    document: _Document
    product_tree: _Tree = field(default_factory=_Tree)
    vulnerabilities: list[_Vulnerability] = []


_decode = msgspec.json.Decoder(_Csaf).decode


def read_csaf(file: Path) -> Advisory:
    """Read one document. Raises InputError."""
    data = read_bytes(file, at_most=LARGEST)
    try:
        document = _decode(data.removeprefix(b"\xef\xbb\xbf"))
    except msgspec.ValidationError as error:
        text = str(error).replace("`", "").replace(" - at $", " at ")
        raise InputError(file, f"is no CSAF document: {text}", _DO) from None
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise InputError(file, f"is damaged: {error}", _DO) from None
    except RecursionError:
        raise InputError(file, "is nested too deeply", _DO) from None
    head = document.document
    if head.csaf_version not in ("2.0", "2.1"):
        do = "Use a document of CSAF 2.0 or 2.1"
        raise InputError(file, f"is CSAF {head.csaf_version}", do, key="document.csaf_version")
    if head.tracking.current_release_date.tzinfo is None:
        key = "document.tracking.current_release_date"
        raise InputError(file, "has a date without a time zone", _DO, key=key)
    products = _products(file, document.product_tree)
    groups = {group.group_id: group.product_ids for group in document.product_tree.product_groups}
    return Advisory(
        id=head.tracking.id,
        title=head.title,
        publisher=head.publisher.name,
        version=head.tracking.version,
        status=head.tracking.status,
        category=head.category,
        csaf="2.0" if head.csaf_version == "2.0" else "2.1",
        released=head.tracking.current_release_date,
        severity=head.aggregate_severity.text if head.aggregate_severity is not None else None,
        products=tuple(products.values()),
        vulnerabilities=tuple(
            _vulnerability(number, one, groups)
            for number, one in enumerate(document.vulnerabilities, 1)
        ),
    )


def _products(file: Path, tree: _Tree) -> dict[str, AdvisoryProduct]:
    """The products of a tree by their ids. Raises InputError where there are too many."""
    products: dict[str, AdvisoryProduct] = {}
    for path, product in _walked(file, tree.branches):
        _enter(file, products, product, path)
    for product in tree.full_product_names:
        _enter(file, products, product, {})
    for related in tree.relationships:
        inside = products.get(related.product_reference)
        own = related.full_product_name
        if inside is not None:  # the part is what may be affected
            products[own.product_id] = msgspec.structs.replace(inside, id=own.product_id)
        else:
            _enter(file, products, own, {})
    return products


def _walked(file: Path, branches: list[_Branch]) -> Iterator[tuple[dict[str, str], _Product]]:
    """Go through the products in branches, each with the names of the branches above it."""
    waiting = [(branch, {}, 1) for branch in reversed(branches)]  # type: ignore[var-annotated]
    while waiting:
        branch, above, depth = waiting.pop()
        if depth > _DEEPEST:
            raise InputError(file, "is nested too deeply", _DO, key="product_tree.branches")
        path: dict[str, Any] = {**above, branch.category: branch.name}
        if branch.product is not None:
            yield path, branch.product
        waiting += [(inside, path, depth + 1) for inside in reversed(branch.branches)]


def _enter(
    file: Path, products: dict[str, AdvisoryProduct], product: _Product, path: dict[str, str]
) -> None:
    if len(products) >= _MOST_PRODUCTS:
        raise InputError(file, f"has over {_MOST_PRODUCTS} products", _DO, key="product_tree")
    hashes = product.helper.hashes if product.helper is not None else []
    products[product.product_id] = AdvisoryProduct(
        id=product.product_id,
        name=path.get("product_name") or path.get("product_family") or product.name,
        publisher=path.get("vendor"),
        version=path.get("product_version"),
        versions=path.get("product_version_range"),
        hashes=tuple(_known_hashes(hashes)),
    )


def _known_hashes(hashes: list[_FileHashes]) -> Iterator[tuple[Algorithm, str]]:
    """Go through digests of algorithms that Ovek knows; others match nothing."""
    for hashed in hashes:
        for pair in hashed.file_hashes:
            algorithm = _HASHES.get(pair.algorithm.casefold())
            value = pair.value.casefold()
            if algorithm is not None and len(value) == LENGTHS[algorithm]:
                yield algorithm, value


def _vulnerability(
    number: int, told: _Vulnerability, groups: dict[str, list[str]]
) -> Vulnerability:
    scores = [*told.scores, *(metric.content for metric in told.metrics)]
    values = [
        cvss.score
        for score in scores
        for cvss in (score.cvss_v4, score.cvss_v3, score.cvss_v2)
        if cvss is not None and cvss.score is not None
    ]
    standings = {
        standing: ids
        for standing, keys in _STANDINGS.items()
        if (
            ids := tuple(dict.fromkeys(p for key in keys for p in told.product_status.get(key, ())))
        )
    }
    return Vulnerability(
        name=told.cve or (told.ids[0].text if told.ids else f"vulnerability {number}"),
        title=told.title,
        score=max(values, default=None),
        standings=standings,
        remedies=tuple(
            Remedy(
                category=one.category,
                details=one.details,
                products=_ids([one.product_ids, *(groups.get(id_, []) for id_ in one.group_ids)]),
            )
            for one in told.remediations
        ),
    )


def _ids(lists: Iterable[list[str]]) -> tuple[str, ...]:
    """The ids of several lists, each once."""
    return tuple(dict.fromkeys(id_ for one in lists for id_ in one))
