"""Shelves that are hostile: each file costs its own line, each shelf its own, and no disk fills."""

import os

import pytest

from hostile.shelves import GOOD, SHELVES, TFTP, serving_http, serving_tftp
from ovek.model.fleet import Shelf
from ovek.sources.problem import ReadProblem
from ovek.sources.ssh import Limits
from ovek.sources.stores import fetching, store_of
from ovek.sources.stores import tftp as tftp_store
from ovek.sources.stores.fetching import read_store
from ovek.sources.stores.interface import ShelfAccess
from ovek.sources.trust import HostKeys, Secrets

LIMIT = 2**20


@pytest.fixture(autouse=True)
def quick(monkeypatch):
    monkeypatch.setattr(tftp_store, "_WAIT", 0.05)
    monkeypatch.setattr(tftp_store, "_TRIES", 2)
    monkeypatch.setattr(fetching, "_TRIES", 2)


def look(at, tmp_path, **more):
    """What is read of a shelf, by path; and that nothing of it is left in the cache."""
    spool = tmp_path / "spool"
    access = ShelfAccess(
        keys=HostKeys(tmp_path / "known_hosts", take_new=False),
        secrets=Secrets(lambda: "harbour"),
        limits=Limits(connect=2.0, login=2.0, answer=0.4, device=20.0),
    )
    store = store_of(Shelf(name="depot", at=at, **more), tmp_path, access)
    try:
        found = {
            one.path: one
            for one in read_store(
                store, store.files(), ("sha256",), spool, most=lambda file: LIMIT, wait=0.01
            )
        }
    finally:
        store.close()
    left = sum(len(files) for _, _, files in os.walk(spool))
    return found, left


@pytest.mark.parametrize("name", SHELVES)
def test_a_file_of_a_web_server_costs_its_own_line(name, tmp_path):
    answer, beside = SHELVES[name]
    with serving_http(answer) as at:
        try:
            found, left = look(at, tmp_path)
        except ReadProblem as problem:
            assert not beside and problem.do and "defect" not in str(problem)
            assert "harbour" not in f"{problem} {problem.do}"
            return
    if beside:
        assert found["b.img"].problem is None and found["b.img"].size == len(GOOD)
        assert found["a.img"].problem and "defect" not in found["a.img"].problem
    assert left == 0  # nothing tells of any of them that the next one is the same


@pytest.mark.parametrize("name", TFTP)
def test_a_file_over_tftp_costs_its_own_line(name, tmp_path):
    with serving_tftp(TFTP[name]) as at:
        try:
            found, left = look(at, tmp_path, files=("a.img",))
        except ReadProblem as problem:
            assert problem.do
            return
    assert found["a.img"].problem and "defect" not in found["a.img"].problem
    assert left == 0


def test_a_file_whose_size_is_told_nowhere_is_read_up_to_what_is_set(tmp_path):
    def answer(method, path):
        body = b"x" * (LIMIT - 1)
        return iter([b"HTTP/1.1 200 OK\r\nConnection: close\r\n\r\n" + body])

    page = SHELVES["packs a file, twice"][0]
    with serving_http(
        lambda method, path: answer(method, path) if path.endswith("a.img") else page(method, path)
    ) as at:
        found, left = look(at, tmp_path)
    assert found["a.img"].problem is None and found["a.img"].size == LIMIT - 1
    assert left == 0
