"""Tell the three rows that lose most seconds a day, with their slowest trials: `python worst.py [ARCHIVE]`."""

from __future__ import annotations

import sys
from pathlib import Path

from bystander import api


def main(archive: str | None = None) -> None:
    """Read the newest record of an archive, decide it, and look at its readings."""
    record = api.read_record(archive=archive)
    decision = api.decide(record)
    print(decision.outcome)

    rows = decision.frame()
    rows = rows[rows["primary"] & (rows["unit"] == "s")].copy()
    rows["runs"] = rows["workload"].map(record.study.weights).fillna(0)
    rows["lost"] = rows["runs"] * (rows["candidate_median"] - rows["reference_median"])

    readings = record.readings()
    elapsed = readings[readings["measure"] == record.study.measure]
    for row in rows.nlargest(3, "lost").itertuples():
        mine = elapsed[(elapsed["workload"] == row.workload) & (elapsed["arm"] == row.arm)]
        slowest = mine.loc[mine["value"].idxmax()]
        print(
            f"{row.workload}: {row.sentence}; {row.lost:+.3g} s a day; "
            f"slowest in block {slowest['block']}, {slowest['value']:.3g} {slowest['unit']}"
        )

    Path("worst.svg").write_bytes(api.render(decision, ".svg"))


if __name__ == "__main__":
    try:
        main(*sys.argv[1:2])
    except api.BystanderError as error:
        sys.exit(f"{error}")
