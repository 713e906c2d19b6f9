"""Records made up in a few lines, for the rooms that decide, write and keep them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from bystander.design import (
    ORDERS,
    PLACEBO,
    Arm,
    ArmState,
    Command,
    MachineFacts,
    PlannedBlock,
    PlannedTrial,
    Record,
    RecordHead,
    Status,
    Study,
    Trials,
    Workload,
    measure_named,
)

Values = Sequence[float]


def made_record(
    readings: Mapping[str, Mapping[str, Values]],
    measure: str = "elapsed",
    margin: float = 0.03,
    risk: float = 0.05,
    failed: Mapping[tuple[str, str], Sequence[int]] | None = None,
    status: Status = Status.EXIT,
    limit_s: float = 10.0,
    answers: Mapping[tuple[str, str], int] | None = None,
    more: Mapping[str, Mapping[str, Mapping[str, Values]]] | None = None,
    paired: bool = True,
    state: str = "complete",
    origin: str = "observed",
    answer_rule: str | None = None,
) -> Record:
    """Return a record of readings by workload and arm, block after block, run in random order.

    Parameters
    ----------
    failed : mapping
        By (workload, arm): the blocks in which the trial ended with `status`.
    answers : mapping
        By (workload, arm): the number that stands for its answer.
    more : mapping
        Readings of other measures, by measure, workload and arm.
    """
    arms = list(dict.fromkeys(arm for by_arm in readings.values() for arm in by_arm))
    names = [measure, *(more or {})]
    rows = []
    for w, (workload, by_arm) in enumerate(readings.items()):
        for arm, values in by_arm.items():
            a = arms.index(arm)
            for block, value in enumerate(values):
                bad = block in (failed or {}).get((workload, arm), ())
                cut = bad and status is Status.CUT
                order = ORDERS["permutation"](1, workload, block, arms).index(a) if paired else -1
                others = [more[name][workload][arm][block] for name in names[1:]] if more else []
                rows.append(
                    (w, a, block if paired else -1, order, int(status) if bad else 0, limit_s if cut else np.nan,
                     (answers or {}).get((workload, arm), 0), 1e9 + block + order / 100, [value, *others])
                )  # fmt: skip
    columns = list(zip(*rows, strict=True))
    integers = [np.array(column, dtype=np.int64) for column in columns[:5]]
    trials = Trials(
        *integers, np.array(columns[5]), np.array(columns[8], dtype=float).reshape(len(rows), -1),
        np.array(columns[6]), np.array(columns[7]), *(np.zeros(len(rows), dtype=np.int64) for _ in range(2)),
    )  # fmt: skip
    study = Study(
        name="made up",
        arms=tuple(Arm(name, placebo=name == PLACEBO) for name in arms),
        workloads=tuple(Workload(name, name, Command("run"), limit_s=limit_s, answer=answer_rule) for name in readings),
        margin=margin,
        risk=risk,
        blocks=max(len(v) for by_arm in readings.values() for v in by_arm.values()),
        measure=measure,
        seed=1,
    )
    head = RecordHead(
        uuid="00000000-0000-4000-8000-000000000000", name="made-up-1", origin=origin, state=state,
        started_wall_s=1e9, study=study, study_folder="/made/up",
        arms=tuple(ArmState(name, f"key-{name}", "/made/up", f"folder {name}") for name in arms),
        workload_keys=tuple(readings), measures=tuple(measure_named(name, "s") for name in names),
        machines=(MachineFacts(host="gull", cores=2),), version="0",
    )  # fmt: skip
    return Record(head, trials)


def placed(workload: int, block: int, arm: int, order: int, last: bool = False) -> PlannedTrial:
    """Return the place of a trial in a block; `last` says that the block is whole with it."""
    arms = tuple(range(order + 1 if last else order + 2))
    return PlannedTrial(PlannedBlock(workload, block, arms), arm, order)


def noisy(count: int, centre: float, spread: float = 0.02, seed: int = 0) -> list[float]:
    """Return log-normal readings about a centre."""
    return (centre * np.exp(np.random.default_rng(seed).normal(0, spread, count))).tolist()
