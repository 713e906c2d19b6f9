"""The plan depends on the seed alone."""

from __future__ import annotations

from collections import Counter
from itertools import permutations

from hypothesis import given
from hypothesis import strategies as st

from bystander.design import ORDERS, Arm, Command, Workload, arm_key, block_order, plan_rounds, shuffled, workload_key

seeds = st.integers(0, 2**48)
NAMES = ["before", "after", "third", "fourth", "fifth", "sixth"]


@given(seeds, st.integers(1, 5), st.integers(0, 50))
def test_a_block_holds_every_arm_once(seed: int, arms: int, block: int) -> None:
    """The order is a permutation, and always the same one."""
    order = block_order(seed, "key", block, NAMES[:arms])

    assert sorted(order) == list(range(arms))
    assert order == block_order(seed, "key", block, NAMES[:arms])


def test_every_order_is_equally_likely() -> None:
    """Over 6,000 keys each of the six orders of three arms comes about a thousand times (chi-squared below 20.5)."""
    counts = Counter(shuffled(3, f"k{i}") for i in range(6000))
    chi = sum((counts[p] - 1000) ** 2 / 1000 for p in permutations(range(3)))

    assert chi < 20.5


def test_every_order_of_arms_is_equally_likely() -> None:
    """The same over 6,000 blocks of one seed, each ordered by the digests of its arms."""
    counts = Counter(block_order(9, "key", block, NAMES[:3]) for block in range(6000))
    chi = sum((counts[p] - 1000) ** 2 / 1000 for p in permutations(range(3)))

    assert chi < 20.5


@given(seeds, st.integers(0, 50), st.lists(st.sampled_from(NAMES), unique=True, min_size=1))
def test_leaving_arms_out_or_adding_some_moves_nobody(seed: int, block: int, some: list[str]) -> None:
    """Those of some arms run in the order that they have among all of them."""
    whole = [NAMES[arm] for arm in block_order(seed, "key", block, NAMES)]
    part = [some[arm] for arm in block_order(seed, "key", block, some)]

    assert part == [arm for arm in whole if arm in some]


@given(seeds, st.integers(1, 6), st.data())
def test_leaving_workloads_out_shifts_nothing_else(seed: int, count: int, data: st.DataObject) -> None:
    """The blocks of the workloads that stay are the same, in the same order."""
    keys = [f"w{i}" for i in range(count)]
    kept = data.draw(st.lists(st.sampled_from(keys), unique=True))
    whole = [(keys[b.workload], b.number, b.order) for b in plan_rounds(seed, keys, NAMES[:3], 4)]
    part = [(kept[b.workload], b.number, b.order) for b in plan_rounds(seed, kept, NAMES[:3], 4)]

    assert part == [block for block in whole if block[0] in kept]


@given(seeds)
def test_fewer_blocks_are_the_beginning_of_more(seed: int) -> None:
    """A plan of three blocks begins a plan of nine."""
    keys = ["a", "b"]
    long, short = list(plan_rounds(seed, keys, NAMES[:2], 9)), list(plan_rounds(seed, keys, NAMES[:2], 3))

    assert long[: len(short)] == short


def test_orders_are_pinned() -> None:
    """The stored seed gives the same plan in every later version; runs of before keep the order that they had."""
    assert [block_order(7, "key", block, NAMES[:2]) for block in range(8)] == PINNED
    assert [ORDERS["permutation"](7, "key", block, NAMES[:2]) for block in range(8)] == PINNED_BEFORE


# By `printf 'block|7|key|0|before' | sha256sum` and the same for "after": which is less comes first.
PINNED = [(1, 0), (0, 1), (1, 0), (0, 1), (1, 0), (1, 0), (1, 0), (1, 0)]
PINNED_BEFORE = [(1, 0), (0, 1), (1, 0), (0, 1), (1, 0), (0, 1), (0, 1), (1, 0)]


def test_keys_change_with_what_they_stand_for() -> None:
    """A workload's key ignores its limit and weight; an arm's key holds everything that could change its trials."""
    w = Workload("a[x=1]", "a", Command("run {x}"), inputs={"x": "1"})
    arm = Arm("before", settings={"y": "1"})

    alike = Workload("b", "b", Command("run {x}"), inputs={"x": "1"}, limit_s=3, weight=2)
    assert workload_key(w) == workload_key(alike)
    assert workload_key(w) != workload_key(Workload("a", "a", Command("run {x}"), inputs={"x": "2"}))
    assert arm_key(arm, "t", "i") == arm_key(Arm("other", settings={"y": "1"}), "t", "i")
    for other in (
        arm_key(arm, "u", "i"), arm_key(arm, "t", "j"), arm_key(Arm("before", settings={"y": "2"}), "t", "i"),
        arm_key(Arm("before", build=("make",), settings={"y": "1"}), "t", "i"),
        arm_key(Arm("before", environment={"A": "1"}, settings={"y": "1"}), "t", "i"),
    ):  # fmt: skip
        assert other != arm_key(arm, "t", "i")
