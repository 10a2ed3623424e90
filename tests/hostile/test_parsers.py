"""A short run of every parser on inputs made worse; the long one is `python -m hostile`."""

import pytest

from hostile.parsers import PARSERS
from hostile.trial import trial

NAMES = list(PARSERS)
INPUTS = 150


@pytest.mark.parametrize("part", [NAMES[0:1], NAMES[1:12], NAMES[12:]], ids=lambda part: part[0])
def test_no_input_makes_a_parser_fail_hang_or_grow(part):
    found = list(trial(part, INPUTS, seed=7))
    assert [one.name for one in found] == part
    for one in found:
        assert not one.failures, (one, one.failures[0][1], one.failures[0][0][:200])


def test_every_good_sample_of_a_list_or_catalog_is_taken(tmp_path):
    for name in ("digest lists", "side files", "tables", "Metalink", "pasted text", "catalogs"):
        samples, file_name, run = PARSERS[name]
        for sample in samples:
            file = tmp_path / file_name
            file.write_bytes(sample)
            run(file)
