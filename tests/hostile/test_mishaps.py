"""Runs that are killed, find no room, or meet another one: nothing lost, nothing half-written."""

import random

import pytest

from hostile.mishaps import WRITING, again, killed, ready, twice, without_room

# What the long run has and would take a while here: the tour, and the start of what draws.
SHORT = [name for name in WRITING if name not in ("demo", "figure")]


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    return ready(tmp_path_factory.mktemp("mishaps"))


@pytest.mark.parametrize("name", SHORT)
def test_a_command_that_is_killed_leaves_whole_files_and_works_again(name, folder):
    killed(name, folder, random.Random(name).uniform(0.2, 0.9))


@pytest.mark.parametrize("name", SHORT)
def test_a_command_without_room_says_so_and_leaves_what_was_there(name, folder):
    without_room(name, folder, 300)
    again(name, folder)


@pytest.mark.parametrize("name", SHORT)
def test_a_command_that_runs_twice_at_once_leaves_whole_files(name, folder):
    again(name, folder)
    twice(name, folder)
