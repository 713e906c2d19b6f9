"""Readings as others write them: other columns, a file for each arm, one number a line."""

from __future__ import annotations

import io
import json
from pathlib import Path

import pytest
from conftest import Run

from bystander.archive import Archive
from bystander.errors import DataError, UsageError
from bystander.exchange import OtherTable, TableColumns, long_form
from bystander.flow.records.imports import ImportOptions, import_files

OLD = "case,ms,host\nsort,10.0,a\nsort,11.0,a\nfind,5,a\n"
NEW = "case,ms,host\nsort,12.0,a\nsort,13.0,a\nfind,5,a\n"
OURS = TableColumns(workload="case", value="ms", unit="ms")


def imported(folder: Path, *sources: str, given: bytes = b"", **options: object) -> dict[tuple[str, str], list[float]]:
    """Return the values by workload and arm, in SI units."""
    archive = folder / "a.sqlite"
    name = import_files(sources, io.BytesIO(given), archive, ImportOptions(**options)).record  # type: ignore[arg-type]
    with Archive(archive) as kept:
        record = kept.load(name)
    study, trials = record.head.study, record.trials
    values = record.column(study.measure)
    found: dict[tuple[str, str], list[float]] = {}
    for w, a, value in zip(trials.workload, trials.arm, values.tolist(), strict=True):
        found.setdefault((study.workloads[w].name, study.arms[a].name), []).append(value)
    return found


def test_a_file_for_each_arm(tmp_path: Path) -> None:
    """The first is the reference, in any order of its rows; columns that nobody asked for do not count."""
    (tmp_path / "old.csv").write_text(OLD, encoding="utf-8")
    (tmp_path / "new=1.csv").write_text(NEW, encoding="utf-8")
    sources = (f"v1={tmp_path}/old.csv", f"v2={tmp_path}/new=1.csv")
    found = {key: [round(1e3 * value) for value in values] for key, values in imported(
        tmp_path, *sources, columns=OURS).items()}  # fmt: skip
    assert found == {("sort", "v1"): [10, 11], ("find", "v1"): [5], ("sort", "v2"): [12, 13], ("find", "v2"): [5]}
    with pytest.raises(UsageError, match="one for each arm"):
        imported(tmp_path, f"{tmp_path}/old.csv", f"{tmp_path}/new=1.csv", columns=OURS)


def test_columns_by_other_names(tmp_path: Path) -> None:
    """Arms, workloads and values; the measure is what the values are."""
    (tmp_path / "t.csv").write_text(
        "branch;x,bytes,what\nold,1024,load\nnew,2048,load\n".replace(";x", ""), encoding="utf-8"
    )
    columns = TableColumns("what", "branch", "bytes", "B")
    assert imported(tmp_path, f"{tmp_path}/t.csv", columns=columns) == {
        ("load", "old"): [1024.0], ("load", "new"): [2048.0]}  # fmt: skip
    with Archive(tmp_path / "a.sqlite") as kept:
        assert kept.head().study.measure == "bytes"


def test_one_number_a_line(tmp_path: Path, run: Run) -> None:
    """From standard input or a file; seconds, which is said; one arm alone is described."""
    assert imported(tmp_path, "-", given=b"\n0.5\n\n0.75\n") == {("program", "now"): [0.5, 0.75]}
    assert imported(tmp_path, "-", given=b"5\n7\n", columns=TableColumns(unit="us")) == {
        ("program", "now"): [pytest.approx(5e-6), pytest.approx(7e-6)]}  # fmt: skip
    for name, low in (("old", 10), ("new", 12)):
        (tmp_path / name).write_text("\n".join(f"{low + k % 7 / 10}" for k in range(20)), encoding="utf-8")
    done = run("records", "import", f"before={tmp_path}/old", f"after={tmp_path}/new", "--unit", "ms")
    (row,) = json.loads(run("decide", "--json").stdout)["results"]
    assert (row["verdict"], row["arm"], row["against"]) == ("slower", "after", "before")
    assert "These readings name no blocks" in done.stderr
    assert "are taken for seconds" not in done.stderr
    assert run("decide", "--gate", "slower", code=1)
    run("decide", "--gate", "slower", "--gate-also", "unrandomised", code=3)


@pytest.mark.parametrize(
    ("text", "columns", "said"),
    [
        ("3\nx\n", TableColumns(), 't: line 2: "x" is no number'),
        (OLD, TableColumns(), "t: which column holds the values? say --value-column, one of case, ms"),
        (OLD, TableColumns(value="s"), 't: there is no column "s"; it has case, ms'),
        (OLD.replace("11.0", "soon"), OURS, 't: line 3: ms: "soon" is no number'),
        (OLD, TableColumns("case", "host", "ms"), "t: old= names its arm, and --arm-column too"),
        ("", TableColumns(), "t: it is empty"), ("a,a\n1,2\n", TableColumns(value="a"), "a column stands twice"),
        ("a,b\n", TableColumns(value="a"), "it has no row below its first line"),
        ('a,b\n"1,2\n', TableColumns(value="a"), "it is no CSV table"),
    ],
)  # fmt: skip
def test_what_is_wrong_is_told_with_its_line(text: str, columns: TableColumns, said: str) -> None:
    """Of the file in which it stands."""
    with pytest.raises(DataError) as error:
        long_form([OtherTable(text.encode(), "t", "old"), OtherTable(b"2\n", "other", "new")], columns)
    assert said in str(error.value)


def test_a_table_of_ours_stays_what_it_is() -> None:
    """To the last byte, so that its faults are told as ever."""
    data = b"workload,arm,measure,value,unit\nw,a,elapsed,1,s\n"
    assert long_form([OtherTable(data, "t")], TableColumns()) == (data, [])
