"""Chains: every state in each block, links, totals, the diary, and what goes on from one."""

from __future__ import annotations

import csv
import json
import math
import re
import signal
import subprocess
import tomllib
from dataclasses import replace
from itertools import pairwise
from pathlib import Path

import jsonschema
import numpy as np
import pytest
from builders import made_record
from conftest import PROGRAM, Run
from history import git, make_history, write_state
from hypothesis import given
from hypothesis import strategies as st

from bystander.archive import Archive
from bystander.design import (
    Chain,
    ChainKind,
    Comparison,
    EditSize,
    Given,
    Link,
    Record,
    StoppingRule,
    edit_size,
    hunk_texts,
    patch_text,
    plain,
    read_patch,
    study_from_plain,
)
from bystander.errors import UsageError
from bystander.flow.chains.became import Became, became_of
from bystander.flow.inside.targets import targets_of
from bystander.flow.observer import Silent
from bystander.report import ladder_markdown, ladder_page, ladder_picture
from bystander.stats import benjamini_hochberg
from bystander.verdicts import decide, ladder, ladder_lines, ladder_notes, step_axis

ROOT = Path(__file__).parents[1]
def chain_record(logs: np.ndarray, broken: str = "") -> Record:
    """Return a record of states whose log times are given, shape (states, blocks); one may have failed always."""
    names = [f"s{i}" for i in range(len(logs))]
    walk = {name: np.exp(row).tolist() for name, row in zip(names, logs, strict=True)}
    record = made_record({"walk": walk}, failed={("walk", broken): range(logs.shape[1])} if broken else None)
    links = tuple(Link(after, before) for before, after in pairwise(names))
    total = Comparison(0, len(names) - 1)
    compared = dict.fromkeys([*(Comparison(i - 1, i) for i in range(1, len(names))), total])
    chain = Chain(ChainKind.LINKS, links, "s0..")
    study = replace(record.head.study, chain=chain, compared=tuple(compared), stopping=StoppingRule.FIXED)
    return replace(record, head=replace(record.head, study=study))


def test_a_chain_finds_small_gains_and_names_few_that_are_none() -> None:
    """Six gains of 2 % among 12 links at CV 3 % and 60 blocks: most are found, few false, intervals hold."""
    rng = np.random.default_rng(19)
    found = false = held = totals = 0
    rounds = 12
    for _ in range(rounds):
        gains = np.zeros(12)
        gains[rng.choice(12, 6, replace=False)] = math.log(0.98)
        true = np.concatenate([[0.0], np.cumsum(gains)])
        made = ladder(chain_record(true[:, None] + rng.normal(0, 0.03, (13, 60)) + rng.normal(0, 0.1, 60)))
        for gain, rung in zip(gains, made.rungs, strict=True):
            (row,) = rung.rows
            found += row.verdict == "faster" and gain < 0
            false += row.verdict == "slower" or (row.verdict == "faster" and gain == 0)
            held += row.low <= math.exp(gain) <= row.high
        (row,) = made.total
        totals += row.low <= math.exp(true[-1]) <= row.high

    assert found >= 0.78 * 6 * rounds
    assert false <= 6
    assert held >= 0.9 * 12 * rounds
    assert totals >= rounds - 3


def test_an_edit_that_mends_is_not_blamed_for_what_the_one_before_it_broke() -> None:
    """It is held against the last state that ran, by its own blocks; only the state that failed is named."""
    rng = np.random.default_rng(7)
    logs = np.log([1.0, 1.0, 0.6, 0.8])[:, None] + rng.normal(0, 0.01, (4, 20))
    made = ladder(chain_record(logs, "s2"))
    apart = ladder(chain_record(logs[[0, 1, 3]]))
    rows = [rung.rows[0] for rung in made.rungs]

    assert [row.verdict for row in rows] == ["same", "failed", "faster"]
    assert (rows[2].against, rows[2].estimate) == ("s1", pytest.approx(apart.rungs[1].rows[0].estimate))
    assert rows[2].p_adjusted == pytest.approx(min(1.0, 3 * rows[2].p))
    notes = ladder_notes(made)
    assert [note for note in notes if "fails" in note] == ["s2 fails in walk."]
    assert "s3: Held against s1, the last state that ran: s2 did not." in notes


def test_links_are_adjusted_together_and_the_total_by_itself() -> None:
    """The p of links are those of Benjamini and Hochberg over all of them; the total is the direct pair's own."""
    rng = np.random.default_rng(3)
    logs = np.log([1.0, 0.99, 0.99, 0.98])[:, None] + rng.normal(0, 0.01, (4, 20))
    decision = decide(chain_record(logs))
    links = sorted((row for row in decision.primary if row.comparison.candidate - row.comparison.reference == 1),
                   key=lambda row: row.arm)  # fmt: skip
    (total,) = (row for row in decision.primary if row.comparison == Comparison(0, 3))

    assert [row.p_adjusted for row in links] == pytest.approx(benjamini_hochberg(np.array([r.p for r in links]), 3))
    assert total.p_adjusted == pytest.approx(total.p)
    assert ladder(chain_record(logs)).total[0].estimate == pytest.approx(total.estimate)


def test_pieces_that_save_the_same_time_alone_and_last_are_independent() -> None:
    """Of 1 s one saves 0.5 s and one costs 0.1 s, a larger share when it is last; then it costs 0.15 s."""
    rng = np.random.default_rng(4)

    def told(last_cost: float, only: str = "walk") -> list[str]:
        whole = 0.5 + last_cost
        times = {"before": 1.0, "after": whole, "a1": 0.5, "a2": 1.1, "w1": whole + 0.5, "w2": 0.5}
        record = made_record({
            workload: {one: (took + rng.normal(0, 0.004, 12)).tolist() for one, took in times.items()}
            for workload, times in (("walk", times), ("row", dict.fromkeys(times, 1.0)))
        })  # fmt: skip
        links = [("a1", "before", "1 alone"), ("after", "w1", "1 last"), ("a2", "before", "2 alone"),
                 ("after", "w2", "2 last")]  # fmt: skip
        chain = Chain(ChainKind.PIECES, tuple(Link(arm, since, label=label) for arm, since, label in links))
        places = {name: place for place, name in enumerate(times)}
        compared = (*(Comparison(places[since], places[arm]) for arm, since, _ in links), Comparison(0, 1))
        study = replace(record.head.study, chain=chain, compared=compared, stopping=StoppingRule.FIXED)
        made = ladder(replace(record, head=replace(record.head, study=study)), [only])
        return [one for one in ladder_notes(made) if "by itself" in one]

    assert told(0.1) == []
    (text,) = told(0.15)
    assert text.startswith("Piece 2 costs ")
    assert "ms less by itself than on top of the others" in text
    assert told(0.15, only="row") == []


def test_a_small_gain_counts_though_it_lies_within_the_margin() -> None:
    """Half a percent is shown as faster in a chain, while a plain study calls it the same within 3 %."""
    rng = np.random.default_rng(5)
    logs = np.log([1.0, 0.995])[:, None] + rng.normal(0, 0.002, (2, 30))
    record = chain_record(logs)
    plainly = replace(record, head=replace(record.head, study=replace(record.head.study, chain=None, compared=())))

    assert ladder(record).rungs[0].rows[0].verdict == "faster"
    assert decide(plainly).primary[0].verdict == "same"


def test_so_far_is_the_direct_pair() -> None:
    """Each state is held against the first in the same blocks: the median of pairwise averages of those differences."""
    rng = np.random.default_rng(6)
    logs = rng.normal(0, 0.02, (4, 9)) + np.array([0, -0.1, -0.1, -0.3])[:, None]
    made = ladder(chain_record(logs))
    for number, rung in enumerate(made.rungs, 1):
        d = logs[number] - logs[0]
        averages = [(d[i] + d[j]) / 2 for i in range(9) for j in range(i, 9)]

        assert rung.so_far[0].estimate == pytest.approx(math.exp(np.median(averages)))
        assert rung.so_far[0].low < rung.so_far[0].estimate < rung.so_far[0].high


@given(st.floats(1e-6, 1e6), st.floats(1e-6, 1e6), st.floats(1.05, 1e4))
def test_the_axis_of_steps_keeps_the_order_and_both_sides_alike(one: float, other: float, reach: float) -> None:
    """A larger ratio never stands further left; a ratio and its inverse stand alike far from the middle."""
    axis = step_axis([reach])

    assert (axis.place(one) <= axis.place(other)) == (one <= other) or axis.place(one) == axis.place(other)
    assert axis.place(one) - 0.5 == pytest.approx(0.5 - axis.place(1 / one), abs=1e-9)
    assert len(axis.ticks(6)) <= 6


def test_a_factor_of_seven_and_two_percent_can_both_be_read() -> None:
    """On an axis that reaches to a factor of seven 2 % stands a tenth of the axis away from no change, and more."""
    axis = step_axis([1 / 7])

    assert 0.5 - axis.place(0.98) >= 0.1
    assert axis.place(1 / 7) < axis.place(1 / 2) - 0.05


PATCH = """diff --git a/one.py b/one.py
index 1..2 100644
--- a/one.py
+++ b/one.py
@@ -1,2 +1,3 @@ def top():
 a
-b
+c
+-- no header
@@ -9 +10 @@
-x
\\ No newline at end of file
+y
diff --git a/old.txt b/old.txt
deleted file mode 100644
--- a/old.txt
+++ /dev/null
@@ -1 +0,0 @@
---- a dash
diff --git a/mode.sh b/mode.sh
old mode 100644
new mode 100755
"""


def test_a_patch_is_read_and_written_piece_by_piece() -> None:
    """Files, hunks and sizes are those of the text; all pieces together are the patch again."""
    files = read_patch("From somebody\n\n" + PATCH)

    assert [one.path for one in files] == ["one.py", "old.txt", "mode.sh"]
    assert edit_size(files) == EditSize(added=3, removed=3, hunks=4, files=3)
    assert files[0].where(0) == "one.py:2 top"
    assert patch_text((one, range(one.pieces)) for one in files) == PATCH
    assert patch_text([(files[0], [1])]).count("@@ ") == 1
    quoted = PATCH.replace("a/mode.sh b/mode.sh", '"a/m\\303\\274.sh" "b/m\\303\\274.sh"')
    quoted = quoted.replace("--- a/old.txt", '--- "a/o\\tl \\"d\\".txt"')
    assert [one.path for one in read_patch(quoted)] == ["one.py", 'o\tl "d".txt', "mü.sh"]
    assert hunk_texts(files) == ("one.py:2 top, +2 -1", "one.py:10, +1 -1", "old.txt, +0 -1", "mode.sh")
    nearer = PATCH.replace(" a\n-b", " async def near(x):\n-b")
    assert read_patch(nearer)[0].where(0) == "one.py:2 near"


def test_a_chain_is_kept_with_its_study_and_forged_ones_are_refused() -> None:
    """A study with a chain comes back from plain values as it was; links to arms that are not there are refused."""
    study = chain_record(np.zeros((3, 5))).head.study
    table = json.loads(json.dumps(plain(study)))

    assert study_from_plain(table) == study
    links = [[], [{"arm": "nobody", "since": "s0"}], [{"arm": "s0", "since": "s2"}]]
    for edit in (*({"links": one} for one in links), {"kind": "ring"}):
        with pytest.raises(ValueError, match=r"chain|link"):
            study_from_plain({**table, "chain": {**table["chain"], **edit}})


def test_a_ladder_is_written_in_every_form() -> None:
    """Page, text, picture, JSON and CSV name every link; texts of others are escaped."""
    rng = np.random.default_rng(2)
    record = chain_record(np.log([1, 0.5, 0.5])[:, None] + rng.normal(0, 0.01, (3, 12)))
    chain = record.head.study.chain
    assert chain
    named = replace(chain.links[0], subject="<b>bold</b> | edit", size=EditSize(400, 12, 9, 2))
    study = replace(record.head.study, chain=replace(chain, links=(named, chain.links[1])))
    made = ladder(replace(record, head=replace(record.head, study=study)))
    page = ladder_page(made)

    assert "&lt;b&gt;bold" in page
    assert "<b>bold" not in page
    assert "\\<b\\>bold" in ladder_markdown(made)
    assert ladder_picture(made, ".png") == ladder_picture(made, ".png")
    assert any("412 lines in 9 hunks" in text and "chain made-up-1 --hunks s1" in text for text in ladder_notes(made))
    assert ladder_lines(made)[0] == "2 links, 12 blocks: 1 same, 1 faster."


@pytest.fixture
def walked(tmp_path: Path) -> list[str]:
    """A history of six states: 20 % less, nothing, one that does not build, 10 % more with another answer, less."""
    states = [(0.02, 0.02, 0.02), (0.008, 0.02, 0.02), (0.008, 0.02, 0.02), (9, 9, 9), (0.008, 0.025, 0.02),
              (0.008, 0.025, 0.01)]  # fmt: skip
    return make_history(tmp_path, states, answers={4: "another"}, broken=(3,), noise=0.0)


def test_the_command_follows_a_history(walked: list[str], run: Run, tmp_path: Path) -> None:
    """Links and total come out as planted; what does not build is joined with the next, another answer is told."""
    done = run("chain", "c0..c5", "--to", "l.json", "--to", "l.csv", "--to", "l.html")
    document = json.loads((tmp_path / "l.json").read_text())
    schema = json.loads((ROOT / "docs" / "ladder.schema.json").read_text())
    links = document["links"]

    jsonschema.validate(document, schema)
    assert [one["state"] for one in links] == [walked[1], walked[2], walked[4], walked[5]]
    assert [one["gains"][0]["verdict"] for one in links] == ["faster", "same", "slower", "faster"]
    assert [one["gains"][0]["answer"] for one in links] == ["same", "same", "differs", "differs"]
    assert links[0]["gains"][0]["gain"] == pytest.approx(0.8, abs=0.01)
    assert links[0]["size"] == {"added": 1, "removed": 1, "hunks": 1, "files": 1}
    assert links[0]["functions"] == ["steps.first"]
    assert links[2]["joined"][0]["state"] == walked[3]
    assert document["total"][0]["gain"] == pytest.approx(0.043 / 0.06, abs=0.01)
    assert f"{walked[3]} cannot be built" in done.stderr
    assert "4 links, 10 blocks: gains of less than 0.1 % of a link are shown" in " ".join(done.stderr.split())
    assert f"bystander settle {walked[1]} kept" in done.stdout
    assert f"{walked[4]} gives another answer than {walked[2]}" in " ".join(done.stdout.split())
    rows = list(csv.DictReader((tmp_path / "l.csv").read_text().splitlines()))
    assert [row["link"] for row in rows] == [*(one["state"] for one in links), "total"]
    assert all(len(line) <= 80 for line in done.stdout.splitlines() if not line.startswith("  bystander "))

    with Archive(tmp_path / ".bystander" / "archive.sqlite") as kept:
        looked_into = targets_of(kept, kept.head("walk-1"), ("walk",), Silent(), Given())
        assert sorted(looked_into) == [(0, 0, 1), (0, 2, 3), (0, 3, 4)]
    assert "Next: its ladder" in run("decide").stdout
    run("settle", walked[1], "kept", "--because", "a table is enough")
    run("settle", "3", "dropped", "--because", "wrong | answer")
    assert "bystander chain walk-1" in run("records", "list").stdout
    shown = run("chain").stdout
    assert f"{walked[1]}, kept" in shown
    assert f"{walked[4]}, dropped" in shown
    assert "was kept: a table is enough" in " ".join(shown.split())
    assert 'because = "wrong | answer"' in (tmp_path / "bystander.settled.toml").read_text()
    run("records", "export", "--redacted", "--to", "told.json")
    told = (tmp_path / "told.json").read_text()
    assert walked[1] in told
    assert not any(word in told for word in ("Step 1", "steps.first", "build.sh"))
    wrong = run("settle", "nobody", "kept", "--because", "x", code=2).stderr
    assert 'has no link "nobody"' in wrong


def test_a_chain_is_gone_on_with(walked: list[str], run: Run, tmp_path: Path) -> None:
    """The folder as it stands becomes one more link behind the last kept; gains that no longer pay are told."""
    run("chain", "c0..c2", "--quiet", "--change", "7%")
    run("settle", walked[1], "kept", "--because", "less")
    git(tmp_path, "checkout", "-q", "c2")
    nothing = run("chain", "--add", code=1).stderr
    write_state(tmp_path, (0.008, 0.02, 0.012))
    noise = ("--noise-of", "walk-1")
    run("chain", "--add", "--note", "Third step from a table", "--quiet", *noise)
    document = json.loads(run("chain", "--json").stdout)

    assert "nothing was edited" in nothing
    assert [one["state"] for one in document["links"]] == [walked[1], walked[2], "added 1"]
    added = document["links"][-1]
    assert (added["since"], added["subject"]) == (walked[1], "Third step from a table")
    assert added["gains"][0]["gain"] == pytest.approx(0.04 / 0.048, abs=0.01)
    assert document["total"][0]["gain"] == pytest.approx(0.04 / 0.06, abs=0.01)
    with Archive(tmp_path / ".bystander" / "archive.sqlite") as kept:
        assert [head.study.chain and head.study.chain.change for head in kept.heads()] == [0.07, 0.07]

    run("settle", "added 1", "kept", "--because", "less again")
    again = run("chain", "--retest", *noise).stdout
    assert "2 gains, 10 blocks: 2 faster." in again
    write_state(tmp_path, (0.0, 0.02, 0.012))  # the first step is no longer needed: what made it quick pays no more
    run("chain", "--add", "--quiet", *noise)
    run("settle", "added 2", "kept", "--because", "not needed")
    told = " ".join(run("chain", "--retest", *noise).stderr.split())
    assert f"{walked[1]} does not come off the newest state any more" in told


def test_an_edit_is_taken_apart(run: Run, tmp_path: Path) -> None:
    """Each hunk alone and last gains what was planted; pieces that do not add up are told, and tried in pairs."""
    make_history(tmp_path, [(0.01, 0.022, 0.02)])
    steps = (tmp_path / "steps.py").read_text()
    both = steps.replace("return 0.01\n", "return 0.016  # 0.004\n")
    both = both.replace("return 0.022", '"""Quick."""\n    return 0.02').replace("return 0.02\n", "return 0.01\n")
    (tmp_path / "steps.py").write_text(both)
    git(tmp_path, "commit", "-qam", "lumped")
    lumped = git(tmp_path, "rev-parse", "--short", "HEAD")
    run("chain", "c0..HEAD", "--quiet")
    done = run("chain", "--hunks", lumped, "--quiet", "--noise-of", "walk-1")
    document = json.loads(run("chain", "walk-2", "--json").stdout)
    gains = {one["state"]: one["gains"][0]["gain"] for one in document["links"]}

    assert document["kind"] == "pieces"
    assert gains["1 alone"] == pytest.approx(0.058 / 0.052, abs=0.01)
    assert gains["1 last"] == pytest.approx(0.024 / 0.03, abs=0.01)
    assert gains["2 alone"] == pytest.approx(0.04 / 0.052, abs=0.01)
    assert document["total"][0]["gain"] == pytest.approx(0.024 / 0.052, abs=0.01)
    assert "less by itself than on top of the others" in " ".join(done.stdout.split())
    run("records", "export", "walk-2", "--redacted", "--to", "told.json")
    assert "steps.py" not in (tmp_path / "told.json").read_text()
    assert "1 alone" in (tmp_path / "told.json").read_text()
    run("chain", "--pairs", "--quiet", "--noise-of", "walk-1")
    pairs = json.loads(run("chain", "walk-3", "--json").stdout)
    assert any(" after " in one["state"] for one in pairs["links"])
    assert "nothing to split" in run("chain", "--hunks", lumped, "--by", "file", code=2).stderr


def test_states_come_from_a_study_too(run: Run, tmp_path: Path) -> None:
    """Patches, versions and what --again kept are chains like any other; observe and check know them."""
    make_history(tmp_path, [(0.02, 0.02, 0.02), (0.01, 0.02, 0.02), (0.01, 0.01, 0.02)])
    git(tmp_path, "format-patch", "-q", "-o", "patches", "c0..c2")
    text = (tmp_path / "bystander.toml").read_text()

    def study(chain: str, arm: str) -> None:
        (tmp_path / "bystander.toml").write_text(text.replace("[arms.state]", f"[chain]\n{chain}\n[arms.state]\n{arm}"))

    study('patches = "patches"', 'revision = "c0"')
    run("observe", "--quiet")
    document = json.loads(run("chain", "--json").stdout)
    assert [one["subject"] for one in document["links"]] == ["Step 1", "Step 2"]
    assert [one["gains"][0]["verdict"] for one in document["links"]] == ["faster", "faster"]

    (tmp_path / "walk.sh").write_text((tmp_path / "walk.sh").read_text().replace("steps.py", "cost.txt"))
    text = text.replace('build = ["sh build.sh"]', "build = [\"sh -c 'echo return {version} > cost.txt'\"]")
    study('versions = ["0.02", "0.03"]', "")
    assert "2 links" not in run("check").stdout
    run("observe", "--quiet")
    document = json.loads(run("chain", "--json").stdout)
    assert [one["gains"][0]["verdict"] for one in document["links"]] == ["slower"]
    assert document["links"][0]["subject"] == "version 0.03"

    study('revisions = "c0..c2"\npatches = "patches"', "")
    assert "chain: revisions and patches are given" in run("observe", code=2).stderr
    study('revisions = "c2"', "")
    assert '"c2" is no range' in run("observe", code=2).stderr


def test_states_that_again_kept_are_a_chain(run: Run, tmp_path: Path) -> None:
    """Each edit that was observed with --again becomes a link."""
    for number, took in enumerate((0.02, 0.01, 0.015)):
        write_state(tmp_path, (took, 0, 0))
        words = ("--again",) if number else ("--number", "walk=walked (\\S+)", "--", "sh", "walk.sh")
        run("observe", "--fixed", "6", "--quiet", *words)
    (tmp_path / "bystander.toml").write_text(
        'name = "kept"\nmeasure = "reading:walk"\nblocks = 12\n[chain]\nagain = true\n[workloads.walk]\n'
        'command = "sh walk.sh"\nnumbers.walk.pattern = "walked (\\\\S+)"\nnumbers.walk.unit = "s"\n'
    )
    run("observe", "--quiet")
    document = json.loads(run("chain", "--json").stdout)

    assert [one["gains"][0]["verdict"] for one in document["links"]] == ["faster", "slower"]


def test_what_could_not_be_seen_is_told_with_what_would_do(run: Run, tmp_path: Path) -> None:
    """And again at the end; blocks that can show nothing are refused, as are ranges that lead nowhere, and options."""
    make_history(tmp_path, [(0.02, 0.02, 0.02)] * 3, noise=0.1)
    warned = run("chain", "c0..c2", "--change", "1 %")
    said = " ".join(warned.stderr.split())

    assert "10 blocks show" in said
    assert "1 % is asked for; --blocks " in said
    assert re.search(r'--change "[\d.]+ %" asks for less', said)
    assert "1 % was asked for; only gains of" in warned.stdout
    at_once = run("chain", "c0..c2", "--blocks", "6", code=2).stderr
    assert "6 blocks can show nothing of 3 comparisons: it takes 7 at least; --blocks 7" in at_once
    assert "arm " not in at_once
    for words, said in (
        (("c2..c0",), "c2 is no ancestor of c0"), (("c0..nobody",), 'no revision "nobody"'), (("c0...c2",), "no range"),
        (("c0..c0",), "no second one"), (("--blocks", "9"), "for a chain that runs"),
        (("c0..c2", "--add"), "go on from"), (("--add", "--", "sh", "walk.sh"), "leave out: sh walk.sh"),
        (("--add", "--retest"), "each is a record of its own"), (("--by", "line", "--hunks", "x"), '"hunk" or "file"'),
        (("--note", "x"), "--note is for --add"), (("c0..c2", "--to", "x.xlsx"), "does not tell its kind"),
    ):  # fmt: skip
        told = run("chain", *words, code=2).stderr
        assert said in told, (words, told)


def test_a_chain_that_was_interrupted_is_finished(walked: list[str], run: Run, tmp_path: Path) -> None:
    """A record that is not whole is shown on its whole blocks; observe --resume finishes it like any other."""
    run("chain", "c0..c2", "--quiet")
    with Archive(tmp_path / ".bystander" / "archive.sqlite") as kept, kept.atomic() as connection:
        from sqlalchemy import text

        connection.execute(text("update record set state = 'interrupted'"))
        connection.execute(text("update run set state = 'interrupted'"))
        connection.execute(text("delete from trial where id > 30"))
        connection.execute(text("update attempt set state = 'open' where id > 10"))
    assert "not finished" in run("chain").stdout
    run("observe", "--resume", "--quiet")
    assert "2 links, 10 blocks" in run("chain").stdout


def test_an_interrupted_link_ends_with_the_code_of_an_interrupt(run: Run, tmp_path: Path) -> None:
    """The chain that it is added to is whole; what was interrupted is the record of the link, and it is named."""
    ids = make_history(tmp_path, [(0.02, 0.02, 0.02), (0.01, 0.02, 0.02)])
    run("chain", "c0..c1", "--quiet")
    run("settle", ids[1], "kept", "--because", "less")
    write_state(tmp_path, (0.01, 0.02, 0.01))
    words = [str(PROGRAM), "chain", "--add", "--noise-of", "walk-1"]
    with subprocess.Popen(words, cwd=tmp_path, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True) as process:
        assert process.stderr
        for line in process.stderr:
            if line.startswith("record "):
                break
        process.send_signal(signal.SIGINT)
        said = process.stderr.read()

    assert process.returncode == 130
    assert "observe --resume walk-2" in said
    run("chain", "--add", "--quiet", "--noise-of", "walk-1")
    assert [one["state"] for one in json.loads(run("chain", "--json").stdout)["links"]] == [ids[1], "added 2"]


def test_a_record_that_is_no_chain_is_told() -> None:
    """Its arms do not follow each other; decide shows it."""
    with pytest.raises(UsageError, match="no chain"):
        ladder(made_record({"w": {"a": [1.0] * 6, "b": [1.0] * 6}}))


def test_the_recorded_history_says_what_is_true(run: Run, tmp_path: Path) -> None:
    """Each edit of the demo's history is as its truths say; the same files give the same commits everywhere."""
    shown = " ".join(run("demo", "office", "--history", "--recorded").stdout.split())
    office = tmp_path / "office"
    truths = tomllib.loads((office / "truths.toml").read_text())
    document = json.loads(run("chain", "harbour-day-1", "--json", cwd=office).stdout)

    assert "22 commits" in shown
    assert git(office, "rev-parse", "--short", "start") == document["first"]["state"] == "7a8f503"
    assert len(git(office, "log", "--oneline").splitlines()) == 22
    for link in document["links"]:
        truth = truths.get(link["subject"], {})
        for row in link["gains"]:
            assert row["verdict"] in truth.get(row["workload"], ["same", "unclear"]), (link["subject"], row)
            differs = truth.get("answer") == "differs" and row["workload"] == "day"
            assert row["answer"] == ("differs" if differs else "same")
    assert any(one["state"] in shown for link in document["links"] for one in link["joined"])
    assert (office / "ladder.html").stat().st_size > 10_000


def test_leads_tell_what_became_of_them(run: Run, tmp_path: Path) -> None:
    """A place that a later link edited names the link and its gain; a list from before it was kept says so."""
    ids = make_history(tmp_path, [(0.02, 0.02, 0.02), (0.01, 0.02, 0.02)])
    run("chain", "c0..c1", "--quiet")
    run("settle", ids[1], "kept", "--because", "less")
    archive = tmp_path / ".bystander" / "archive.sqlite"
    with Archive(archive) as kept:
        head = kept.head("walk-1")
    before = became_of(archive, head, head.started_wall_s - 60, ["steps.first", "steps.second"], "walk")
    after = became_of(archive, head, head.started_wall_s + 60, ["steps.first"], "walk")

    assert before.before == f"This list was made before {ids[1]} was kept: look again before the next edit."
    assert before.lines[0].startswith(f"steps.first was edited by {ids[1]} of walk-1, kept: faster, -1")
    assert after == Became()
