"""A change of the machine in the middle of an observation is said, with the blocks concerned."""

from __future__ import annotations

import json
import subprocess
import sys
from dataclasses import replace
from pathlib import Path

import pytest
from builders import made_record, noisy
from conftest import Run
from hypothesis import given
from hypothesis import strategies as st

from bystander.design import MachineFacts, MachineState, Stretch, state_changes, stretches
from bystander.design.records.machine import machine_sentences
from bystander.exchange import read_record_json, record_json
from bystander.field import machine_state
from bystander.flow.sessions.watch import MachineWatch
from bystander.verdicts import decide

CALM = Stretch(0, 0, 0.04, 0.0, 0.01, 3e9, 0.0, True)


def run_of(**changed: dict[int, object]) -> list[Stretch]:
    """Return ten stretches of two blocks each; `changed` gives values by stretch."""
    found = [replace(CALM, first=2 * i, last=2 * i + 1) for i in range(10)]
    for name, values in changed.items():
        for i, value in values.items():
            found[i] = replace(found[i], **{name: value})  # type: ignore[arg-type]
    return found


@pytest.mark.parametrize(
    ("changed", "sentence"),
    [
        ({}, None),
        ({"stalled": {3: 0.31, 4: 0.28}}, "In blocks 6 to 9, programs waited for a processor up to 31 % of the time;"),
        ({"stalled": dict.fromkeys(range(2, 10), 0.5)}, "In blocks 4 to 19, programs waited for a processor up to 50"),
        ({"stalled": {3: 0.07}}, None),  # doubled, and still little
        ({"disk_stalled": {0: 0.2, 9: 0.4}}, "In blocks 0 to 1 and 18 to 19, programs waited for the disk up to 40"),
        ({"stolen": {5: 0.3}}, "In blocks 10 to 11, processors were taken by other virtual machines up to 30 %"),
        (
            {"frequency_hz": {7: 2.1e9}},
            "In blocks 14 to 15, processors ran at down to 2.1 GHz; at other times 3.0 GHz.",
        ),
        ({"frequency_hz": {7: 2.9e9}}, None),
        ({"heat_slowdowns": {1: 4.0}}, "In blocks 2 to 3, the processor was slowed down for heat."),
        ({"on_mains": {8: False, 9: False}}, "In blocks 16 to 19, the machine ran on its battery."),
        (
            {"stalled": {0: 0.5, 2: 0.5, 4: 0.5, 6: 0.5, 8: 0.5}},
            "In blocks 0 to 1, 4 to 5, 8 to 9 and 2 more stretches, programs waited",
        ),
    ],
)
def test_changes_are_told_with_their_blocks(changed: dict[str, dict[int, object]], sentence: str | None) -> None:
    """What doubled, dropped or switched is one sentence a kind; what stayed is none."""
    told = state_changes(run_of(**changed))

    assert len(told) == (sentence is not None)
    assert all(text.startswith(sentence or "") for text in told)


def test_too_few_or_unreadable_stretches_tell_nothing() -> None:
    """What could not be read is no change."""
    nan = float("nan")
    unread = [replace(s, stalled=nan, disk_stalled=nan, stolen=nan, frequency_hz=nan, heat_slowdowns=nan, on_mains=None)
              for s in run_of()]  # fmt: skip

    assert state_changes(run_of(stalled={1: 0.9})[:3]) == []
    assert state_changes(unread) == []


def states(stalled: list[float]) -> list[MachineState]:
    """Return readings of counters, five seconds apart, between which programs waited for such shares."""
    found = [MachineState(session=1, monotonic_s=100.0, stalled_s=7.0)]
    for i, share in enumerate(stalled):
        before = found[-1]
        assert before.monotonic_s is not None
        assert before.stalled_s is not None
        stalled_s = before.stalled_s + 5 * share
        found.append(
            MachineState(
                session=1, monotonic_s=before.monotonic_s + 5.0, stalled_s=stalled_s, first_block=i, last_block=i
            )
        )
    return found


def test_counters_become_shares_within_a_session_only() -> None:
    """A share is a difference over a difference; another boot or session is no stretch."""
    read = states([0.1, 0.4])
    other = [*read, replace(read[-1], session=2, monotonic_s=3.0, first_block=5, last_block=5)]

    assert [s.stalled for s in stretches(read)] == pytest.approx([0.1, 0.4])
    assert len(stretches(other)) == 2
    assert stretches([]) == stretches(read[:1]) == ()


def test_a_record_repeats_what_changed_and_carries_it_along() -> None:
    """Every decision has the note, also of a record that went through a file."""
    record = made_record({"w": {"a": noisy(8, 1.0), "b": noisy(8, 1.0)}})
    record = replace(record, machine_states=states([0.02, 0.02, 0.03, 0.4, 0.02, 0.02]))
    again = read_record_json(record_json(record), "r.json")
    texts = [note.text for note in decide(again).notes if note.code == "machine-changed"]

    assert texts == ["In block 3, programs waited for a processor up to 40 % of the time; in calm ones 2 %."]


@given(st.lists(st.dictionaries(
    st.sampled_from(["session", "monotonic_s", "stalled_s", "first_block", "last_block", "on_mains", "frequency_hz"]),
    st.one_of(st.none(), st.booleans(), st.integers(-3, 9), st.floats(), st.text(max_size=2)),
), max_size=9))  # fmt: skip
def test_damaged_states_tell_something_or_nothing(read: list[dict[str, object]]) -> None:
    """Whatever a file holds, there is no failure."""
    state_changes(stretches([MachineState.of(state) for state in read]))


def test_stretches_are_whole_rounds() -> None:
    """A stretch ends with a round, not within; the first reading has no blocks."""
    kept: list[MachineState] = []

    class Keeper:
        def machine_state(self, state: MachineState) -> None:
            kept.append(state)

    watch = MachineWatch(MachineState, Keeper(), stretch_s=0.0)
    for number in (0, 0, 0, 1, 1, 1, 2):
        watch.next_block(number)
    watch.close()

    assert [(k.first_block, k.last_block) for k in kept] == [(None, None), (0, 0), (1, 1), (2, 2)]


def test_this_machine_is_read() -> None:
    """On Linux the counters are there, and grow."""
    before = machine_state()
    subprocess.run([sys.executable, "-c", "sum(range(10**6))"], check=True)
    after = machine_state()

    assert (after.monotonic_s or 0) > (before.monotonic_s or 0)
    assert (after.processors_s or 0) >= (before.processors_s or 0)
    assert (after.stalled_s or 0) >= (before.stalled_s or 0)


def test_the_state_before_the_start_is_told_in_plain_words() -> None:
    """Only what matters and can be read."""
    facts = MachineFacts(disk_free_bytes=2**28, disk_bytes=2**40, on_mains=False, heat_slowdowns=3)
    told = " ".join(machine_sentences(facts))

    assert "Only 260 MiB of the disk is free." in told
    assert "battery" in told
    assert "slowed down for heat 3 times" in told
    assert machine_sentences(MachineFacts(disk_free_bytes=2**40, on_mains=True, heat_slowdowns=0)) == []


def test_an_observation_keeps_the_machines_states(run: Run, study: Path) -> None:
    """A record that lasts holds readings with the blocks between them."""
    study.write_text(study.read_text(encoding="utf-8").replace("sleep 0.01", "sleep 0.45"), encoding="utf-8")
    run("observe", "--quiet")
    run("records", "export", "--to", "r.json")
    kept = json.loads((study.parent / "r.json").read_text(encoding="utf-8"))["machine_states"]

    assert len(kept) >= 2
    assert "first_block" not in kept[0]
    assert kept[1]["first_block"] == 0
    assert kept[-1]["monotonic_s"] - kept[0]["monotonic_s"] > 4
