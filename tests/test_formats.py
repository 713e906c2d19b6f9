"""Files for programs: each is checked by a reader that is not ours, and says what a gate found of each row."""

from __future__ import annotations

import csv
import io
import json
import math
import os
import re
import xml.etree.ElementTree as ElementTree
from dataclasses import replace
from pathlib import Path

import jsonschema
import pytest
import xmlschema
from builders import made_record, noisy
from conftest import Run
from prometheus_client.openmetrics.parser import text_string_to_metric_families

from bystander.design import Ceiling, Record
from bystander.errors import UsageError
from bystander.exchange import ROWS_HEAD, junit_xml, openmetrics_text, rows_csv
from bystander.flow.commands.report import FORMATS, Asked, append_text, refuse_targets, write_reports
from bystander.report import markdown, page
from bystander.units import plain_text
from bystander.verdicts import Decision, GateFinding, Options, decide, gate, gate_ask

ROOT = Path(__file__).parents[1]
JUNIT = xmlschema.XMLSchema(str(ROOT / "tests" / "data" / "junit-10.xsd"))
HOSTILE = 'tide\\ "of" <b>&\x1b[31m\u202e'


def harbour(**more: object) -> Record:
    """Return a record with a slower row, an unclear one, a failed one, and a ceiling."""
    record = made_record(
        {"gauge": {"before": noisy(20, 1, 0.01), "after": noisy(20, 1.2, 0.01, 1)},
         "watch": {"before": noisy(20, 2, 0.2, 2), "after": noisy(20, 2, 0.2, 3)},
         HOSTILE: {"before": noisy(20, 2, 0.01, 4), "after": noisy(20, 2, 0.01, 5)}},
        failed={(HOSTILE, "after"): range(20)}, **more,
    )  # type: ignore[arg-type]  # fmt: skip
    study = record.head.study
    workloads = (
        replace(study.workloads[0], ceilings=(Ceiling("elapsed", 0.9, 0.7),), weight=2.0),
        *study.workloads[1:],
    )
    return replace(record, head=replace(record.head, study=replace(study, workloads=workloads)))


def held(words: str, record: Record | None = None) -> tuple[Decision, GateFinding]:
    record = record or harbour()
    ask = gate_ask(tuple(words.split(",")), record.head.study)
    decision = decide(record, Options(gate=ask))
    return decision, gate(decision, ask)


def cases(text: str) -> dict[str, tuple[str, str]]:
    """Return what each case of a valid document is marked as, and why."""
    JUNIT.validate(text)
    found = {}
    for case in ElementTree.fromstring(text).iter("testcase"):
        marks = [one for one in case if one.tag in ("failure", "error", "skipped")]
        assert len(marks) <= 1
        found[case.get("name") or ""] = (marks[0].tag, marks[0].get("type") or "") if marks else ("", "")
    return found


def test_junit_fails_what_the_gate_stops_and_skips_what_is_unclear() -> None:
    """And has a case for what the gate could not tell, and for what it found of the record."""
    plain = cases(junit_xml(decide(harbour())))
    name = next(one for one in plain if one.startswith("tide"))
    assert plain["gauge"] == ("", "")
    assert plain["watch"] == ("skipped", "unclear")
    assert plain[name] == ("skipped", "failed")
    assert plain["gauge, 70 % within 900 ms"] == ("skipped", "broken")
    found = cases(junit_xml(*held("slower,failed,unclear,broken")))
    assert (found["gauge"], found["watch"], found[name]) == (
        ("failure", "slower"), ("failure", "unclear"), ("failure", "failed"),
    )  # fmt: skip
    assert found["gauge, 70 % within 900 ms"] == ("failure", "broken")
    early = cases(junit_xml(*held("slower,unfinished", harbour(state="interrupted"))))
    assert early["unfinished: made-up-1"] == ("failure", "unfinished")
    assert early["could not be told"] == ("error", "not-told")


def test_junit_counts_are_those_of_its_cases() -> None:
    """Pipelines show the numbers of the head."""
    suite = ElementTree.fromstring(junit_xml(*held("slower,failed")))
    tags = [mark.tag for case in suite.iter("testcase") for mark in case]
    assert suite.get("tests") == str(len(list(suite.iter("testcase"))))
    for kind, tag in (("failures", "failure"), ("errors", "error"), ("skipped", "skipped")):
        assert suite.get(kind) == str(tags.count(tag))


def test_openmetrics_is_read_by_another_parser() -> None:
    """With labels as they are, whatever is in them; states are one of their set."""
    decision, finding = held("slower,failed")
    families = {family.name: family for family in text_string_to_metric_families(openmetrics_text(decision, finding))}
    change = {
        s.labels["workload"]: s.value for s in families["bystander_change"].samples if s.labels["measure"] == "elapsed"
    }
    states = {s.labels["bystander_verdict"]: s.value for s in families["bystander_verdict"].samples
              if s.labels["workload"] == "gauge"}  # fmt: skip
    row = next(row for row in decision.primary if row.workload == "gauge")

    assert change["gauge"] == row.estimate
    assert math.isnan(change[plain_text(HOSTILE)])
    assert [state for state, value in states.items() if value] == ["slower"]
    assert {s.labels["word"]: s.value for s in families["bystander_gate_found"].samples} == {"slower": 1, "failed": 1}
    assert families["bystander_load"].samples[0].value == decision.loads[0].ratio
    assert families["bystander_ceiling"].type == "stateset"
    assert openmetrics_text(decision).endswith("# EOF\n")


def test_csv_has_a_line_for_each_row() -> None:
    """Numbers to the last bit, empty where nothing is known; what the gate found, and ceilings."""
    decision, finding = held("slower,failed")
    lines = list(csv.DictReader(io.StringIO(rows_csv(decision, finding))))
    by_name = {line["workload"]: line for line in lines if line["scale"] != "ceiling"}
    hostile = HOSTILE.replace("\x1b", "\N{REPLACEMENT CHARACTER}")  # no control character gets into a table
    row = next(row for row in decision.primary if row.workload == "gauge")

    assert tuple(lines[0]) == ROWS_HEAD
    assert len(lines) == len(decision.rows) + 2
    assert (float(by_name["gauge"]["change"]), float(by_name["gauge"]["p"])) == (row.estimate, row.p)
    assert float(by_name["gauge"]["candidate_least"]) == row.candidate.least
    assert by_name["gauge"]["gate"] == "slower"
    assert (by_name[hostile]["change"], by_name[hostile]["gate"]) == ("", "failed")
    assert [line["verdict"] for line in lines if line["scale"] == "ceiling"] == ["broken", "broken"]
    (load,) = decision.loads
    assert float(by_name["gauge"]["contribution"]) == load.parts[0].contribution


def test_least_middle_and_greatest_are_marked_as_not_tested() -> None:
    """Those of the good trials that count, in every format."""
    decision, finding = held("slower")
    row = next(row for row in decision.primary if row.workload == "gauge")
    times = noisy(20, 1, 0.01)

    assert (row.reference.least, row.reference.greatest) == (min(times), max(times))
    assert "what people quote; nothing is tested on them" in markdown(decision, finding)
    for write in (page, junit_xml):
        assert "not tested: least " in write(decision, finding)
    assert "bystander_least{" in openmetrics_text(decision)
    failed = next(row for row in decision.primary if row.workload == HOSTILE)
    assert math.isnan(failed.candidate.least)


def test_reports_say_what_came_of_the_gate() -> None:
    """Text and page, where there was one."""
    decision, finding = held("slower")
    for write in (markdown, page):
        assert "gate slower: found gauge (slower)" in write(decision, finding)
        assert "gate slower" not in write(decision)


@pytest.mark.parametrize(
    ("names", "said"),
    [
        (("a.txt",), "end it in .html, .md, .json, .csv, .xml, .openmetrics, .svg, .png or .pdf"),
        (("a.md", "a.md"), "is named twice"), (("no/a.md",), "there is no folder"), (("d.md",), "is a folder"),
        (("p.md",), "is a pipe or a device, and would be replaced"),
    ],
)  # fmt: skip
def test_what_cannot_be_written_is_told_before_anything_runs(tmp_path: Path, names: tuple[str, ...], said: str) -> None:
    """By one sentence."""
    (tmp_path / "d.md").mkdir()
    os.mkfifo(tmp_path / "p.md")
    with pytest.raises(UsageError, match=re.escape(said)):
        refuse_targets([tmp_path / name for name in names])


def test_one_command_for_a_pipeline(run: Run, tmp_path: Path) -> None:
    """Files always, one line when all is well, else the rows with what to do; the exit code is of this very record."""
    study = (
        "blocks = 8\nstopping = 'fixed'\nmargin = '30 %'\n[arms.a]\nsettings.t = '0.02'\n[arms.b]\nsettings.t = '{t}'\n"
    )
    study += "[workloads.gauge]\ncommand = 'sleep {{t}}'\n"
    targets = [f"out.{suffix.removeprefix('.')}" for suffix in FORMATS]
    words = ["observe", "--gate", "slower,failed", "--quiet", "--summary", "summary.md"]
    words += [word for name in targets for word in ("--to", name)]

    (tmp_path / "bystander.toml").write_text(study.format(t="0.02"), encoding="utf-8")
    well = run(*words)
    assert len(well.stdout.splitlines()) == 1
    assert re.match(
        r"unnamed-study-1: gate slower,failed: nothing found; a worsening of up to .* is not ruled out", well.stdout
    )
    assert well.stderr == ""
    jsonschema.validate(
        json.loads((tmp_path / "out.json").read_text(encoding="utf-8")),
        json.loads((ROOT / "docs" / "verdicts.schema.json").read_text(encoding="utf-8")),
    )
    assert cases((tmp_path / "out.xml").read_text(encoding="utf-8"))["gauge"][0] in ("", "skipped")

    (tmp_path / "bystander.toml").write_text(study.format(t="0.3"), encoding="utf-8")
    stopped = run(*words, code=3)
    assert "gate slower,failed: found gauge (slower)" in stopped.stdout
    assert "  bystander inspect unnamed-study-2 --only gauge" in stopped.stdout
    assert "  bystander settle gauge accepted --because ..." in stopped.stdout
    assert cases((tmp_path / "out.xml").read_text(encoding="utf-8"))["gauge"] == ("failure", "slower")
    assert (tmp_path / "summary.md").read_text(encoding="utf-8").count("### unnamed study") == 2

    (tmp_path / "bystander.toml").write_text(study.format(t="0.3").replace("sleep", "no-such-program"), "utf-8")
    assert "there is no program" in run(*words, code=2).stderr
    assert not any((tmp_path / name).exists() for name in targets)  # nobody takes the last one's for this one's
    assert "could not be done" in (tmp_path / "summary.md").read_text(encoding="utf-8")
    assert "end it in" in run("observe", "--to", "x.docx", code=2).stderr


def test_a_summary_is_appended_to(tmp_path: Path) -> None:
    """What others wrote stays."""
    file = tmp_path / "s.md"
    file.write_text("before\n", encoding="utf-8")
    append_text("after\n", file)
    assert file.read_text(encoding="utf-8") == "before\nafter\n"
    write_reports(Asked(decide(harbour())), [tmp_path / f"a{suffix}" for suffix in FORMATS])
    assert len(list(tmp_path.glob("a.*"))) == len(FORMATS)
