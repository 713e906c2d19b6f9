"""Two states side by side: places are matched, their change is tested, and the account leaves nothing out."""

from __future__ import annotations

import io
import itertools
import json
import math
import warnings
from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path as FilePath
from typing import Any

import jsonschema
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from rich.console import Console

from bystander.cli.shown.console import STYLES
from bystander.cli.shown.inside.accounts import print_account, print_changes
from bystander.design import (
    BUILT_IN,
    PYTHON,
    WAITS,
    Account,
    CallEdge,
    Change,
    Counts,
    Edits,
    LineMap,
    Match,
    Place,
    Stacks,
    Standing,
    Task,
    account_sentences,
    change_seconds,
    lead_sentence,
    slowed_text,
    told_account,
    told_change,
    try_sentence,
)
from bystander.evidence import (
    ACCOUNT_KIND,
    EDITS_KIND,
    Asked,
    Seen,
    account,
    content_of,
    edits_of,
    packed,
)
from bystander.evidence.compared.functions import functions_of
from bystander.evidence.compared.lines import line_after, line_blocks
from bystander.evidence.compared.matching import canonical_file, package_of
from bystander.exchange import accounts_csv, accounts_json
from bystander.flow.inside.side_by_side import Plan, SideBySide, Tried
from bystander.flow.leads.accounts import LOOKS, risk_at
from bystander.stats import flip_p, flipped, subset_interval

ROOTS = ("/arms/a", "/arms/b")
SCHEMA = json.loads((FilePath(__file__).parents[1] / "docs" / "accounts.schema.json").read_text(encoding="utf-8"))
SLEEP = WAITS.index("sleep")
Path = tuple[str, ...]


# Sign flips and subset means


def by_hand(differences: np.ndarray, j: int) -> float:
    """Return the adjusted p of one of several means, from every flip written out and Student's t (independently)."""
    n = differences.shape[1]

    def t(values: np.ndarray) -> np.ndarray:
        return np.abs(values.mean(axis=1)) / (values.std(axis=1, ddof=1) / math.sqrt(n))

    seen = t(differences)[j]
    reached = [t(differences * np.array(signs)).max() >= seen - 1e-9 for signs in itertools.product((1, -1), repeat=n)]
    return sum(reached) / 2**n


def test_flips_are_those_of_students_t_written_out() -> None:
    """Adjusted p of every mean where none is shown: the share of all flips whose largest t is as large."""
    differences = np.random.default_rng(3).normal(0.3, 1, (4, 7))
    tested = flipped(differences, 0.01)

    assert not tested.shown.any()
    assert tested.p.tolist() == pytest.approx([by_hand(differences, j) for j in range(4)])
    alone = [flip_p(row) for row in differences]
    assert alone == pytest.approx([by_hand(row[None], 0) for row in differences])
    assert (tested.p >= np.array(alone) - 1e-12).all()


def test_a_large_change_does_not_hide_a_smaller_one() -> None:
    """Its flips are taken without it, and an interval holds 0 exactly where nothing is shown."""
    rng = np.random.default_rng(5)
    differences = rng.normal(0, 1, (12, 12))
    differences[0] += 60
    differences[1] += 4
    tested = flipped(differences, 0.05)

    assert tested.shown.tolist() == [True, True, *[False] * 10]
    assert (tested.shown == ((tested.low > 0) | (tested.high < 0))).all()
    assert (tested.p[:2] <= 0.05).all()
    assert tested.low[0] < 60.5 < tested.high[0] or abs(tested.mean[0] - 60) < 1


def test_too_few_blocks_bound_nothing() -> None:
    """With 5 blocks two of 32 flips are the least possible: an error of 5 % cannot be told."""
    tested = flipped(np.full((2, 5), 3.0) + np.arange(5) / 10, 0.05)

    assert not tested.shown.any()
    assert np.isinf(tested.high).all()
    assert subset_interval(np.arange(5.0), 0.05) == (-math.inf, math.inf)


def test_intervals_are_the_means_of_subsets() -> None:
    """Hartigan's example by hand: seven means of three values, the k-th from either end."""
    values = np.array([1.0, 2.0, 6.0])
    means = sorted([1.0, 2.0, 6.0, 1.5, 3.5, 4.0, 3.0])

    assert subset_interval(values, 0.25) == (means[0], means[-1])
    assert subset_interval(values, 0.5) == (means[1], means[-2])


def test_constant_and_empty_differences_have_an_answer() -> None:
    """Zeros show nothing; equal ones are known exactly; no place is no place."""
    tested = flipped(np.array([[0.0] * 8, [2.0] * 8]), 0.05)

    assert tested.shown.tolist() == [False, True]
    assert (tested.low[1], tested.high[1]) == (2.0, 2.0)
    assert flipped(np.zeros((0, 8)), 0.05).p.size == 0


def test_errors_of_a_family_are_held_over_many_blocks_too() -> None:
    """200 families of 30 unchanged places of two kinds of noise: at most 5 % show any, but for luck (99.9 %)."""
    rng = np.random.default_rng(11)
    hits = sum(
        flipped(noise((30, blocks)), 0.05).shown.any()
        for noise, blocks in ((rng.normal, 10), (lambda size: rng.standard_t(3, size), 14))
        for noise in [lambda size, noise=noise: noise(size=size)]
        for _ in range(100)
    )

    assert hits <= 21


# What was edited

BEFORE = '''
"""Quays."""
LIMIT = 3
def read(line):
    """Read."""
    return line.split(";")
def weigh(cargo):
    total = 0
    for k in range(cargo):
        total += k * cargo % 7 + (k ^ cargo) % 5 + (k & cargo)
    return total
def stow(cargoes):
    return sorted(cargoes, key=lambda one: one + 1)
class Berth:
    def take(self, ship):
        return ship
def leave(ship):
    return ship - 1
'''
AFTER = '''
"""Quays and berths."""
LIMIT = 3
@cached
def read(line):
    return tuple(line.split(";"))
def heft(cargo):
    total = 0
    for k in range(cargo):
        total += k * cargo % 7 + (k ^ cargo) % 5 + (k & cargo)
    return total
def stow(cargoes):
    """Stow."""
    return sorted(cargoes, key=lambda one: one + 2)
class Berth:
    def take(self, ship):
        return ship
def arrive(ship):
    return ship + 1
'''


def place(name: str, side: int, file: str = "quay.py", line: int = 0) -> Place:
    return Place(PYTHON, name, file if file.startswith("/") else f"{ROOTS[side]}/{file}", line)


def met(text: str, side: int, file: str = "quay.py") -> set[Place]:
    """Return every function of a text as a place that was met."""
    return {place(one.name, side, file, one.first) for one in functions_of(text) or []}


def standings(edits: Edits) -> dict[str, str]:
    return {(one.after or one.before).name: str(one.standing) for one in edits.matches if one.after or one.before}


def test_functions_are_held_against_each_other_by_their_bodies() -> None:
    """Texts that document and names do not count; what is nested counts by itself."""
    files = {f"{ROOTS[0]}/quay.py": BEFORE, f"{ROOTS[1]}/quay.py": AFTER}
    edits = edits_of((met(BEFORE, 0), met(AFTER, 1)), ROOTS, files.get)

    assert standings(edits) == {
        "<module>": "untouched", "read": "edited", "heft": "moved", "stow": "untouched",
        "stow.<locals>.<lambda>": "edited", "Berth": "untouched", "Berth.take": "untouched", "leave": "gone",
        "arrive": "new",
    }  # fmt: skip
    heft = next(one for one in edits.matches if one.after and one.after.name == "heft")
    assert heft.before
    assert heft.before.name == "weigh"


def test_files_that_are_alike_are_untouched_and_need_no_reading_of_syntax() -> None:
    """Also where they are no Python of ours; a file that cannot be read leaves its places unknown."""
    odd = "def read(:\n  pass"
    files = {f"{root}/odd.py": odd for root in ROOTS} | {f"{ROOTS[1]}/new.py": BEFORE, f"{ROOTS[0]}/gone.py": odd}
    hit = (
        {place("read", 0, "odd.py", 1), place("read", 0, "gone.py", 1)},
        {place("read", 1, "odd.py", 1), *met(BEFORE, 1, "new.py")},
    )
    edits = edits_of(hit, ROOTS, files.get)
    told = {((one.after or one.before).file, one.standing) for one in edits.matches if one.after or one.before}

    assert (f"{ROOTS[1]}/odd.py", Standing.UNTOUCHED) in told
    assert (f"{ROOTS[1]}/new.py", Standing.NEW) in told
    assert not any("gone.py" in file for file, _ in told)


def test_libraries_match_across_interpreters_and_environments() -> None:
    """By package and path inside it; an upgraded one is edited."""
    files = {
        "/e1/lib/python3.11/site-packages/waves/sea.py": BEFORE, "/e2/lib/python3.12/site-packages/waves/sea.py": AFTER,
        "/usr/lib/python3.11/json/decoder.py": BEFORE, "/usr/lib/python3.12/json/decoder.py": BEFORE,
    }  # fmt: skip
    lists = list(files)
    hit = tuple(
        {
            place(one.name, 0, lists[k], one.first)
            for k in (side, side + 2)
            for one in functions_of(files[lists[k]]) or []
        }
        for side in (0, 1)
    )
    edits = edits_of((hit[0], hit[1]), ROOTS, files.get)
    by_file = {(one.after.file.rpartition("/")[2], one.after.name): one.standing for one in edits.matches if one.after}

    assert by_file["sea.py", "read"] is Standing.EDITED
    assert by_file["decoder.py", "read"] is Standing.UNTOUCHED


@pytest.mark.parametrize(
    ("file", "same", "package"),
    [
        ("/arms/a/tidebook/tides.py", "./tidebook/tides.py", ""),
        ("./tidebook/tides.py", "./tidebook/tides.py", ""), ("tides.py", "./tides.py", ""),
        ("/arms/a/.venv/lib/python3.11/site-packages/waves/sea.py", "packages/waves/sea.py", "packages/waves"),
        ("/usr/lib/python3/dist-packages/waves.py", "packages/waves.py", "packages/waves"),
        ("/usr/lib/python3.12/json/decoder.py", "library/json/decoder.py", "library/json"),
        ("/opt/other/plan.py", "/opt/other/plan.py", ""), ("<frozen runpy>", "<frozen runpy>", ""),
    ],
)  # fmt: skip
def test_files_have_one_name_in_both_arms(file: str, same: str, package: str) -> None:
    """From the arm's folder, the folder of packages or the standard library on."""
    assert canonical_file(file, ROOTS[0]) == same
    assert package_of(same) == package


@given(st.text(max_size=300) | st.text("def x():\n\treturn 1 2(", max_size=120))
def test_whatever_stands_in_a_file_is_no_error(text: str) -> None:
    """It is Python, or it is not."""
    found = functions_of(text)

    assert found is None or found[0].name == "<module>"


@given(
    st.lists(st.sampled_from(["a", "b", "c", "d", ""]), max_size=14),
    st.lists(st.sampled_from(["a", "b", "c", "e", ""]), max_size=14),
)
def test_lines_that_are_matched_are_alike_and_in_order(before: list[str], after: list[str]) -> None:
    """Each at most once; equal files line by line."""
    blocks = line_blocks("\n".join(before), "\n".join(after))
    pairs = [(line, to) for line in range(1, len(before) + 1) if (to := line_after(blocks, line))]

    assert all(before[line - 1] == after[to - 1] for line, to in pairs)
    assert [to for _, to in pairs] == sorted({to for _, to in pairs})
    if before == after:
        assert len(pairs) == len("\n".join(before).splitlines())


def test_lines_are_mapped_through_an_edit() -> None:
    """What was put in or taken out moves those behind it."""
    blocks = line_blocks("a\nb\nc\nd\ne", "a\nx\ny\nb\nd\ne")

    assert [line_after(blocks, line) for line in range(1, 6)] == [1, 4, 0, 5, 6]


# Accounts


def trial(seconds: Mapping[Path, float], side: int, waiting: Sequence[Path] = (), kind: str = PYTHON) -> Stacks:
    """Return a watched trial that was so long at the end of each path; built-in paths of names in one file."""
    places: list[Place] = []
    nodes: dict[Path, int] = {}
    parent, at = [], []
    for path in seconds:
        for depth in range(1, len(path) + 1):
            if path[:depth] not in nodes:
                one = found(path[depth - 1], side, kind)
                if one not in places:
                    places.append(one)
                nodes[path[:depth]] = len(parent)
                parent.append(nodes.get(path[: depth - 1], -1))
                at.append(places.index(one))
    ns = np.array([round(1e9 * value) for value in seconds.values()], dtype=np.int64)
    where = np.array([nodes[path] for path in seconds], dtype=np.int64)
    waits = np.array([SLEEP if path in waiting else -1 for path in seconds], dtype=np.int64)
    none = np.zeros(0, dtype=np.int64)
    return Stacks(
        tuple(places), (Task(1, 1, 0, "quay", 0, int(ns.sum())),), np.array(parent), np.array(at), np.zeros_like(at),
        none, none, none, none, none, none, none, where, np.zeros_like(where), waits, ns, int(ns.sum()), 1_000_000,
    )  # fmt: skip


def found(name: str, side: int, kind: str = PYTHON) -> Place:
    """Return the place of a name: those of json are a library's."""
    if name.startswith("json."):
        return Place(PYTHON, name, f"/usr/lib/python3.1{side}/json/decoder.py", 3)
    return Place(kind, name, f"{ROOTS[side]}/quay.py", 1 + sum(map(ord, name)))


def edits(**standing: Standing) -> Edits:
    """Return how some places stand; the others are unknown."""
    return Edits(
        tuple(
            Match(
                None if how is Standing.NEW else found(name, 0), None if how is Standing.GONE else found(name, 1), how
            )
            for name, how in standing.items()
        )
    )  # fmt: skip


def accounted(
    before: Mapping[Path, float], after: Mapping[Path, float], counts: tuple[list[Counts], list[Counts]] = ([], []),
    known: Edits | None = None, blocks: int = 10, noise: float = 0.02, waiting: Sequence[Path] = (),
    items: tuple[dict[str, float], dict[str, float]] = ({}, {}), rooted: bool = False,
) -> Account:  # fmt: skip
    rng = np.random.default_rng(8)

    def varied(seconds: Mapping[Path, float]) -> dict[Path, float]:
        return {path: value * math.exp(rng.normal(0, noise)) for path, value in seconds.items()}

    pairs = [(trial(varied(before), 0, waiting), trial(varied(after), 1, waiting)) for _ in range(blocks)]
    stacks = ([a for a, _ in pairs], [b for _, b in pairs])
    seen = Seen(stacks, counts, known or Edits(), ROOTS, items)
    return account(seen, Asked("elapsed", 0.03, 0.03, rooted))


def counted(side: int, **calls: Sequence[tuple[str, int]]) -> list[Counts]:
    """Return two counting trials that agree: by callee, who calls it how often; "" is nobody."""
    names = list(dict.fromkeys([*calls, *(caller for callers in calls.values() for caller, _ in callers if caller)]))
    places = tuple(
        Place(BUILT_IN, "open") if name == "open" else found(name, side) for name in names
    )  # fmt: skip
    edges = tuple(
        CallEdge(names.index(caller) if caller else -1, 1, names.index(callee), n)
        for callee, callers in calls.items()
        for caller, n in callers
    )
    return [Counts(places, edges)] * 2


BASE: dict[Path, float] = {
    ("main", "read"): 0.03, ("main", "plan"): 0.04, ("main",): 0.01, ("main", "stow"): 0.02,
    ("main", "stow", "json.loads"): 0.005,
}  # fmt: skip


def test_the_place_that_changed_is_the_lead_and_nothing_is_left_out() -> None:
    """Time of a library counts with the place of the program that calls it; explained and rest are the whole."""
    told = accounted(BASE, {**BASE, ("main", "stow", "json.loads"): 0.015}, known=edits(stow=Standing.EDITED))
    (lead,) = told.leads

    assert (lead.place.name, lead.standing) == ("stow", Standing.EDITED)
    assert lead.seconds.change_s == pytest.approx(0.010, abs=0.001)
    assert lead.seconds.before_s == pytest.approx(0.025, rel=0.03)
    assert told.explained.change_s + told.rest.change_s == pytest.approx(told.whole.change_s, abs=1e-12)
    assert not told.rest.shown
    whole = {one.place.name: one.whole for one in told.places}
    assert whole["main"].change_s == pytest.approx(told.whole.change_s)
    assert whole["json.loads"].shown
    assert not whole["plan"].shown


def test_a_callee_that_is_called_more_often_is_charged_to_its_caller() -> None:
    """A call of it takes as long as before; where a call takes longer it answers for itself."""
    after = {**BASE, ("main", "read"): 0.09}
    more = (counted(0, main=[("", 1)], read=[("main", 100)]), counted(1, main=[("", 1)], read=[("main", 300)]))
    same = (more[0], counted(1, main=[("", 1)], read=[("main", 100)]))
    often, slower = (
        accounted(BASE, after, calls, edits(main=Standing.EDITED), items=({"ships": 100}, {"ships": 100}))
        for calls in (more, same)
    )

    assert [lead.place.name for lead in often.leads] == ["main"]
    assert [one.name for one in often.leads[0].takes] == ["read"]
    assert lead_sentence(often.leads[0]).endswith("calls quay.read 300 times instead of 100 times in each of its calls")
    assert "an arm in which quay.main calls quay.read as often as before" in try_sentence(often)
    assert [lead.place.name for lead in slower.leads] == ["read"]
    assert (slower.leads[0].calls_before, slower.leads[0].calls_after) == (100, 100)


def test_a_lead_names_the_line_where_most_of_it_stands() -> None:
    """Through the edit: what was line 8 is line 9 now, and took as long; line 10 is new."""
    before, after = (
        [lined(side, seconds) for seconds in rows]
        for side, rows in ((0, [{8: 0.05, 12: 0.01}] * 8), (1, [{9: 0.05, 10: 0.03, 13: 0.011}] * 8))
    )
    known = Edits(
        (Match(found("read", 0), found("read", 1), Standing.EDITED),),
        (LineMap(found("read", 0).file, found("read", 1).file, ((1, 1, 7), (8, 9, 1), (9, 11, 40))),),
    )
    told = account(Seen((before, after), ([], []), known, ROOTS), Asked("elapsed", 0.05, 0.03))

    assert told.leads[0].line == 10
    assert lead_sentence(told.leads[0]) == "edited, most of it at line 10"


def lined(side: int, seconds: Mapping[int, float]) -> Stacks:
    """Return a trial of one function by its lines."""
    one = trial({("read",) * (k + 1): value for k, value in enumerate(seconds.values())}, side)
    count = len(seconds)
    return replace(one, parent=np.full(count, -1), place=np.zeros(count, dtype=np.int64), line=np.array(list(seconds)))


def test_calls_that_do_not_repeat_are_no_evidence() -> None:
    """Then nobody is charged for them."""
    first = counted(1, main=[("", 1)], read=[("main", 300)])
    odd = [first[0], counted(1, main=[("", 1)], read=[("main", 301)])[0]]
    told = accounted(BASE, {**BASE, ("main", "read"): 0.09}, (counted(0, main=[("", 1)], read=[("main", 100)]), odd))

    assert [lead.place.name for lead in told.leads] == ["read"]
    assert told.leads[0].calls_after is None
    assert told.repeats is False


def test_work_that_moved_is_netted_under_what_lies_around_both() -> None:
    """One lead for two edited places, of which little remains; two that have nothing to do with each other stay two."""
    after = {**BASE, ("main", "read"): 0.005, ("main", "plan"): 0.067}
    moved = accounted(BASE, after, known=edits(read=Standing.EDITED, plan=Standing.EDITED, main=Standing.UNTOUCHED))
    apart = accounted(BASE, after, known=edits(read=Standing.EDITED, plan=Standing.UNTOUCHED, main=Standing.UNTOUCHED))

    (lead,) = moved.leads
    assert (lead.place.name, lead.moved_from and lead.moved_from.name) == ("plan", "read")
    assert lead.under
    assert lead.under.name == "main"
    assert lead.seconds.change_s == pytest.approx(0.002, abs=0.001)
    assert "what quay.read saved is spent in quay.plan" in " ".join(account_sentences(moved))
    assert {lead.place.name for lead in apart.leads} == {"read", "plan"}


def test_what_is_saved_and_waited_for_is_one_lead() -> None:
    """The place that waits longer was not touched."""
    after = {**BASE, ("main", "read"): 0.005, ("main", "plan"): 0.065}
    told = accounted(
        BASE, after, known=edits(read=Standing.EDITED, plan=Standing.UNTOUCHED), waiting=[("main", "plan")]
    )

    assert "what quay.read saved is waited for in quay.plan" in " ".join(account_sentences(told))
    assert "shows no change" in " ".join(account_sentences(told))


def test_a_count_that_grew_is_a_lead_without_any_seconds() -> None:
    """Where there are not more items; what is opened again too. Its caller being called more often is none."""
    before = counted(0, main=[("", 1)], read=[("main", 10)], open=[("read", 1)])
    after = counted(1, main=[("", 1)], read=[("main", 10)], open=[("read", 30)])
    told = accounted(BASE, BASE, (before, after))
    more = accounted(BASE, BASE, (before, after), items=({"ships": 5}, {"ships": 9}))

    (lead,) = told.leads
    assert lead.by_count
    assert lead.place.name == "open"
    assert lead_sentence(lead) == "called 3 times instead of 0.1 times in each call of quay.read"
    assert more.leads == ()
    assert told.explained.change_s == 0


def test_new_and_gone_places_and_groups_have_parts() -> None:
    """A new function is a lead by its name; the interpreter's start counts for nobody; small places are one."""
    start = ("interpreter start",)
    before = {**BASE, start: 0.010}
    after = {**BASE, start: 0.010, ("main", "check"): 0.02, ("main", "tiny"): 1e-5}
    told = accounted(before, after, known=edits(check=Standing.NEW))

    assert [lead.place.name for lead in told.leads] == ["check"]
    assert told.leads[0].seconds.before_s == 0
    assert told.smaller.after_s == pytest.approx(1e-5, rel=0.1)
    rooted = accounted({**BASE, ("run",): 0.5}, {**BASE, ("run",): 0.5}, rooted=True)
    assert rooted.whole.before_s == pytest.approx(0.605, rel=0.05)


def test_watching_that_slows_one_arm_more_is_taken_out() -> None:
    """Seconds of the candidate are divided by the middle ratio of all places, and that is said."""
    rng = np.random.default_rng(2)
    slower = {path: seconds * 1.3 for path, seconds in BASE.items()}
    bare = [[(0.1 * math.exp(rng.normal(0, 0.01)) * more, 0.1) for _ in range(8)] for more in (1.0, 1.3)]
    noise = rng.normal(0, 0.02, (8, 2, len(BASE)))
    pairs = [
        tuple(
            trial({path: seconds * math.exp(e) for (path, seconds), e in zip(one.items(), errors, strict=True)}, side)
            for side, (one, errors) in enumerate(zip((BASE, slower), row, strict=True))
        )
        for row in noise
    ]
    seen = Seen(([a for a, _ in pairs], [b for _, b in pairs]), ([], []), Edits(), ROOTS, bare=(bare[0], bare[1]))
    told = account(seen, Asked("elapsed", 0.05, 0.03))

    assert told.slowed == pytest.approx(1.3, rel=0.02)
    assert told.whole.change_s == pytest.approx(0, abs=3e-3)
    assert told.leads == ()
    assert told.cost[1]
    assert told.cost[1].ratio == pytest.approx(1.3, rel=0.02)


@given(
    st.lists(st.floats(0.001, 1), min_size=5, max_size=5), st.lists(st.floats(0.001, 1), min_size=5, max_size=5),
    st.integers(1, 9),
)  # fmt: skip
def test_the_account_always_sums_to_the_whole(before: list[float], after: list[float], blocks: int) -> None:
    """Whatever changed, shown or not."""
    a, b = (dict(zip(BASE, values, strict=True)) for values in (before, after))
    told = accounted(a, b, blocks=blocks, known=edits(read=Standing.EDITED, plan=Standing.EDITED))

    assert told.explained.change_s + told.rest.change_s == pytest.approx(told.whole.change_s, abs=1e-9)
    assert sum(b.values()) - sum(a.values()) == pytest.approx(told.whole.change_s, abs=0.3)
    assert account_sentences(told)


def test_an_inspection_without_a_whole_block_has_an_account() -> None:
    """It says so."""
    told = account(Seen(([], []), ([], []), Edits(), ROOTS), Asked("elapsed", 0.05, 0.03))

    assert (told.blocks, told.leads, told.places) == (0, (), ())
    assert "no block in which both arms came to a good end" in account_sentences(told)[0]
    assert not told.explained_enough


def test_trials_of_one_block_are_averaged() -> None:
    """A block is the unit, however many trials it has."""
    pairs = [(trial({("main",): 0.1 * k}, 0), trial({("main",): 0.1 * k + 0.02}, 1)) for k in (1, 3, 2, 4)]
    stacks = ([a for a, _ in pairs], [b for _, b in pairs])
    told = account(Seen(stacks, ([], []), Edits(), ROOTS, units=[0, 0, 1, 1]), Asked("elapsed", 0.05, 0.03))

    assert told.blocks == 2
    assert told.whole.before_s == pytest.approx(0.25)
    assert told.whole.change_s == pytest.approx(0.02)


# Words, and what is kept


@pytest.mark.parametrize(
    ("change", "text"),
    [
        (Change(0.1, 0.136, 0.036, 0.032, 0.040), "+36.0 ms (+32.0 to +40.0)"),
        (Change(0.1, 0.136, 0.036, 0.012, 0.060), "+36 ms (+12 to +60)"),
        (Change(0, 0, -3.4e-6, -4.5e-6, -2.1e-6), "-3.4 µs (-4.5 to -2.1)"),
        (Change(0.1, 0.107, -0.007, -0.0142, -0.00031), "-7.0 ms (-14.2 to -0.3)"),
        (Change(0.1, 0.107, 0.007, -0.0001, 0.0142), "+7 ms (0 to +14)"),
        (Change(1, 3, 2.0, -math.inf, math.inf), "+2.0 s (not bounded yet)"), (Change(0, 0, 0, 0, 0), "0 ns (0 to 0)"),
    ],
)  # fmt: skip
def test_seconds_have_one_unit_and_no_more_digits_than_are_known(change: Change, text: str) -> None:
    """Two digits of the interval's width."""
    assert change_seconds(change) == text


@pytest.mark.parametrize(
    ("slowed", "said"), [(1.3, "after more than before, by 30.0 %"), (0.8, "less than before, by 20.0")]
)
def test_which_arm_was_slowed_more_is_told(slowed: float, said: str) -> None:
    """In words; nothing where it is not shown."""
    told = replace(accounted(BASE, BASE, blocks=2), against="before", arm="after")

    assert said in slowed_text(replace(told, slowed=slowed))
    assert slowed_text(told) == ""


def test_what_is_called_has_no_seconds_of_its_own() -> None:
    """A built-in has calls only, in every form; what is too small to be tested has no interval."""
    before = counted(0, main=[("", 1)], read=[("main", 10)], open=[("read", 1)])
    after = counted(1, main=[("", 1)], read=[("main", 10)], open=[("read", 30)])
    told = accounted(BASE, {**BASE, ("main", "tiny"): 1e-5}, (before, after))
    document = json.loads(accounts_json([told]))["accounts"][0]
    jsonschema.validate(json.loads(accounts_json([told])), SCHEMA)
    (row,) = [place for place in document["places"] if place["name"] == "open"]
    tiny = next(place for place in told.places if place.place.name == "tiny")

    assert (row["whole"], document["leads"][0]["seconds"]) == (None, None)
    assert told_account(told).leads[0].seconds is None
    assert next(line for line in accounts_csv([told]).splitlines() if ",open," in line).endswith(",1,30")
    assert told_change(told.leads[0].timed) == ""
    assert told_change(tiny.whole, tested=False) == "+10 µs (small, not tested)"


@pytest.mark.parametrize("width", [40, 60, 80, 100, 120, *range(126, 140), 160, 200])
@pytest.mark.parametrize("name", ["fit", "fit_all_ships_of_the_day_to_berths_of_their_own"])
def test_places_are_shown_at_any_width(width: int, name: str) -> None:
    """Whole rows, whatever the names; ring, dot and interval are there."""
    seconds = {("main", f"{name}_{k}"): 0.01 * (k + 1) for k in range(6)}
    told = accounted(seconds, {**seconds, ("main", f"{name}_3"): 0.09})
    told = replace(told, run="tides-1/inspected-1", workload="day", against="before", arm="after")
    console = Console(file=io.StringIO(), width=width, theme=STYLES)
    print_account(console, told, 15)
    print_changes(console, told, "change", 15, True)
    lines = console.file.getvalue().splitlines()  # type: ignore[attr-defined]

    assert all(len(line) <= max(width, 60) for line in lines)
    assert sum(bool({"●", "*"} & set(line)) for line in lines) >= 1 + 7


def test_an_edit_in_code_with_doubtful_escapes_is_read_in_silence() -> None:
    """Warnings about somebody's code are none of ours."""
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        assert functions_of('def quay():\n    return "\\d" is 1\n')


@pytest.mark.parametrize(
    ("blocks", "fixed", "risk"),
    [(7, False, 0.05), (8, False, 0.01), (9, False, 0.04), (10, False, 0.01), (11, False, 0.03), (12, False, 0.03),
     (8, True, 0.05), (30, True, 0.05)],
)  # fmt: skip
def test_looks_spend_their_part_of_the_risk(blocks: int, fixed: bool, risk: float) -> None:
    """What was looked at before is spent, and all of them together spend 5 %."""
    assert risk_at(blocks, fixed) == pytest.approx(risk)
    assert sum(LOOKS.values()) == pytest.approx(0.05)


@pytest.mark.parametrize(("took_s", "each"), [(0.05, 4), (0.12, 4), (0.17, 2), (0.25, 2), (0.26, 1), (9.0, 1)])
def test_short_trials_are_several_in_a_block(took_s: float, each: int) -> None:
    """So that a block lasts about half a second in each arm, of the slower one; four at most."""
    nothing: Any = None
    side = SideBySide(nothing, 0, (0, 1), *[nothing] * 6, seed=1, plan=Plan(), account=nothing)
    side.plan_each(Tried(1_000_000, (took_s / 2, took_s), 100, True))

    assert side.plan.each == each
    assert side.plan.looks == {8, 10}
    assert Plan(12, fixed=True).looks == frozenset()


def test_accounts_and_edits_are_packed_and_checked() -> None:
    """What comes back is what went in; damaged ones are refused."""
    known = edits(read=Standing.EDITED, plan=Standing.GONE, stow=Standing.NEW)
    told = told_account(accounted(BASE, {**BASE, ("main", "read"): 0.09}, known=known, blocks=5))

    assert content_of(packed(EDITS_KIND, known, {})) == known
    assert content_of(packed(ACCOUNT_KIND, told, {})) == told
    for kind, content in ((EDITS_KIND, known), (ACCOUNT_KIND, told)):
        table = kind.table(content)
        assert kind.of_table(json.loads(json.dumps(table))) == content
    with pytest.raises(ValueError, match="nothing with nothing"):
        EDITS_KIND.of_table({"matches": [[None, None, "edited"]], "subjects": [], "packages": []})
    lead = {"label": "", "where": "", "brief": "", "said": "", "calls": "", "seconds": [float("nan"), 1, 1, 1, 1]}
    with pytest.raises(ValueError, match="seconds"):
        ACCOUNT_KIND.of_table({**ACCOUNT_KIND.table(told), "leads": [lead]})


def test_documents_and_tables_hold_what_is_shown() -> None:
    """Unbounded ends are null, cells of what is not known are empty."""
    told = accounted(BASE, {**BASE, ("main", "read"): 0.09}, blocks=4)
    document = json.loads(accounts_json([told]))["accounts"][0]
    lines = accounts_csv([told]).splitlines()

    assert document["whole"]["low_s"] is None
    assert document["leads"] == []
    assert document["account"] == account_sentences(told)
    assert len(lines) == 1 + len(told.places)
    assert lines[1].count(",") == lines[0].count(",")
