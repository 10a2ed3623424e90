"""Places at which devices are read: who is silent holds up nobody, and no more work than asked."""

import asyncio
from random import Random

import pytest

from ovek.sources import places
from ovek.sources.places import Places, Seat


@pytest.fixture(autouse=True)
def quick(monkeypatch):
    monkeypatch.setattr(places, "_PATIENCE", 0.01)
    monkeypatch.setattr(places, "_ANSWERED", 0.02)
    monkeypatch.setattr(places, "_LOOKS", 0.01)


async def _all(kinds, at_once, limit):
    """Read devices of these kinds; in which order they came to an end, and how many at most.

    The silent ones go on once all others have ended, or at their limit in seconds.
    """
    there, ended, working, most = Places(at_once), [], set(), 0
    over = asyncio.Event()

    async def reading(name, kind, seat):
        nonlocal most
        for _ in range(3):
            await seat.work()
            working.add(name)
            most = max(most, len(working))
            await asyncio.sleep(0)
            working.discard(name)
            if kind == "silent":
                await over.wait()

    async def one(name, kind, seat):
        task = asyncio.create_task(reading(name, kind, seat))
        await seat.watch(task, limit)
        task.cancel()
        seat.end()
        ended.append(name)
        if sum(kinds[each] == "good" for each in ended) == kinds.count("good"):
            over.set()

    async with asyncio.TaskGroup() as group:
        for name, kind in enumerate(kinds):
            group.create_task(one(name, kind, await there.seat()))
    return ended, most


@pytest.mark.parametrize("seed", range(5))
def test_all_that_answer_are_read_before_those_that_are_silent(seed):
    kinds = ["silent"] * 30 + ["good"] * 20
    Random(seed).shuffle(kinds)
    ended, most = asyncio.run(_all(kinds, 4, 60))
    assert sorted(ended) == list(range(50))
    assert [kinds[name] for name in ended][:20] == ["good"] * 20
    assert most <= 4


def test_where_nobody_more_can_wait_elsewhere_places_are_held(monkeypatch):
    monkeypatch.setattr(places, "_most_open", lambda: 0)
    ended, most = asyncio.run(_all(["silent"] * 4 + ["good"] * 4, 2, 0.1))
    assert sorted(ended) == list(range(8)) and most <= 2


def test_one_that_failed_comes_behind_those_that_were_never_tried():
    async def run():
        there, order = Places(1), []

        async def again(seat):
            await seat.work(failed=True)
            order.append("again")
            seat.end()

        async def new(name):
            seat = await there.seat()
            order.append(name)
            await asyncio.sleep(0)
            seat.end()

        first = await there.seat()
        first.leave()
        held = await there.seat()
        tasks = [asyncio.create_task(again(first))]
        await asyncio.sleep(0)
        tasks += [asyncio.create_task(new(name)) for name in "ab"]
        await asyncio.sleep(0)
        held.end()
        await asyncio.gather(*tasks)
        return order

    assert asyncio.run(run()) == ["a", "b", "again"]


def test_what_is_spent_in_line_is_nobodys_time():
    async def run():
        there = Places(1)
        first = await there.seat()
        first.leave()
        second = await there.seat()
        waiting = asyncio.create_task(first.work())
        await asyncio.sleep(0.05)
        spent = first.in_line()
        second.end()
        await waiting
        return spent, first.in_line()

    spent, after = asyncio.run(run())
    assert spent >= 0.04 and after >= spent


def test_a_wait_for_a_place_that_is_given_up_loses_none():
    async def run():
        there = Places(1)
        held = await there.seat()
        waiting = asyncio.create_task(there.seat())
        await asyncio.sleep(0)
        held.end()
        waiting.cancel()
        with pytest.raises(asyncio.CancelledError):
            await waiting
        return await asyncio.wait_for(there.seat(), 5)

    assert isinstance(asyncio.run(run()), Seat)
