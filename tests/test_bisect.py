"""The search for a commit: its posterior, its conversation, the command on histories, kills and resumption."""

from __future__ import annotations

import json
import os
import signal
import sqlite3
import subprocess
import time
from contextlib import closing
from pathlib import Path

import jsonschema
import numpy as np
import pytest
from conftest import PROGRAM, Run
from history import git, make_history
from scipy.stats import t as student

from bystander.archive import Archive
from bystander.stats import failing_step, timed_step
from bystander.verdicts import Answer, Ask, Bisected, Kind, Outcome, Rules, Stage, bisecting

ROOT = Path(__file__).parents[1]


def conversation(
    count: int, level: dict[int, float], rng: np.random.Generator, rules: Rules | None = None,
    broken: tuple[int, ...] = (), failing_from: int | None = None, noise: float = 1.0,
) -> Bisected:  # fmt: skip
    """Answer a search from a made-up history: `level` is by how much each commit changes what comes after it."""
    talk = bisecting(count, rules)
    seen: dict[tuple[Stage, int], dict[int, np.ndarray]] = {}
    ask = next(talk)
    while True:
        bad = next((commit for commit in ask.commits if commit in broken), None)
        if bad is not None:
            answer = Answer(broken=bad)
        else:
            rows = seen.setdefault((ask.stage, ask.part), {})
            for block in range(ask.first, ask.first + ask.blocks):
                true = [sum(size for at, size in level.items() if at <= commit) for commit in ask.commits]
                rows.setdefault(block, np.array(true) + rng.normal(0, noise / np.sqrt(2), len(true)))
            values = np.array([rows[block] for block in range(ask.first, ask.first + ask.blocks)])
            failed = np.zeros(values.shape, dtype=bool)
            if failing_from is not None:
                failed[:, [commit >= failing_from for commit in ask.commits]] = True
                values[failed] = np.nan
            answer = Answer(values, failed)
        try:
            ask = talk.send(answer)
        except StopIteration as ended:
            return ended.value


def test_the_posterior_is_that_of_the_likelihood() -> None:
    """With one effect and one scale the shares are the products of t4 densities, worked out by SciPy."""
    rng = np.random.default_rng(1)
    posterior = timed_step(5, 2.0, rng.normal(2, 1, 8))
    seen = {2: [0.1, 1.9], 4: [2.2]}
    for commit, values in seen.items():
        posterior.probed(commit, values)
    likelihood = posterior._likelihood
    expected = np.zeros(5)
    for effect, scale in zip(likelihood._effects, likelihood._scales, strict=True):  # type: ignore[attr-defined]
        for c in range(1, 6):
            means = [effect if at >= c else 0.0 for at, values in seen.items() for _ in values]
            values = [one for several in seen.values() for one in several]
            expected[c - 1] += np.prod(student.pdf((np.array(values) - means) / scale, 4) / scale)

    assert posterior.shares == pytest.approx(expected / expected.sum())
    assert posterior.in_question() <= 5


def test_a_built_commit_is_preferred_where_it_is_as_good() -> None:
    """The median is tried, unless a commit that is built lies within six points of it."""
    posterior = timed_step(100, 1.0, np.array([0.5, 1.0, 1.5]))

    assert posterior.probe(range(1, 100), []) == 50
    assert posterior.probe(range(1, 100), [47]) == 47
    assert posterior.probe(range(1, 100), [43]) == 50
    assert failing_step(8).probe(range(1, 8), []) == 4


def test_the_step_is_found_and_nobody_named_where_there_is_none() -> None:
    """Of 64 commits the right one is named with about as many blocks as the method is known to take."""
    rng = np.random.default_rng(23)
    blocks = {}
    for effect, most in ((1.0, 104), (2.0, 48), (3.0, 41)):
        found = [(at, conversation(64, {at: effect}, rng, Rules(second=False)))
                 for at in rng.integers(1, 65, 8).tolist()]  # fmt: skip
        assert all(one.outcome is Outcome.FOUND and at in one.steps[0].commits for at, one in found)
        blocks[effect] = float(np.mean([one.blocks for _, one in found]))
        assert blocks[effect] < 1.4 * most
    named = [conversation(64, {}, rng).outcome for _ in range(15)]

    assert named.count(Outcome.FOUND) == 0
    assert named.count(Outcome.NO_CHANGE) >= 12


def test_commits_that_cannot_be_tried_count_with_the_next() -> None:
    """The answer is then a group, held against the last commit before it that can be tried."""
    found = conversation(20, {9: 3.0}, np.random.default_rng(5), broken=(8, 9, 10))

    assert found.steps[0].commits == (8, 9, 10, 11)
    assert found.steps[0].parent == 7
    assert set(found.broken) <= {8, 9, 10}


def test_a_second_step_is_searched_for_where_something_is_left() -> None:
    """Two steps are both named, in their order; of one it is said that nothing is left."""
    rng = np.random.default_rng(8)
    two = conversation(40, {11: 3.0, 30: 3.0}, rng)
    one = conversation(40, {11: 3.0}, rng)

    assert [step.commits[-1] for step in two.steps] == [11, 30]
    assert [step.commits[-1] for step in one.steps] == [11]
    assert one.remainder_p is not None


def test_readings_that_repeat_exactly_take_one_trial_a_commit() -> None:
    """A search among 1,000 commits takes eight blocks for the ends, about ten more, and one to verify."""
    found = conversation(1000, {700: 5.0}, np.random.default_rng(1), noise=0.0)

    assert found.ends
    assert found.ends.kind is Kind.EXACT
    assert found.steps[0].commits == (700,)
    assert found.steps[0].effect == 5.0
    assert found.blocks <= found.ends.blocks + 12


def test_the_commit_since_which_it_fails_is_found() -> None:
    """Failures are what is told apart where the far end fails and the near one does not."""
    found = conversation(64, {}, np.random.default_rng(2), failing_from=37)

    assert found.ends
    assert found.ends.kind is Kind.FAILS
    assert found.steps[0].commits == (37,)


def test_a_good_end_that_fails_is_told() -> None:
    """Nothing can be held against an end of which every trial fails."""
    found = conversation(8, {}, np.random.default_rng(2), failing_from=0)

    assert found.outcome is Outcome.GOOD_FAILS
    assert not found.steps


def test_a_change_in_between_that_cannot_be_timed_is_no_answer_to_it() -> None:
    """A probe whose trials all fail counts like a commit that cannot be built."""
    talk = bisecting(4, Rules(second=False))
    ask, rng = next(talk), np.random.default_rng(4)
    found = None
    while found is None:
        true = [3.0 * (commit >= 3) for commit in ask.commits]
        values = np.array([true] * ask.blocks) + rng.normal(0, 0.3, (ask.blocks, len(true)))
        failed = np.array([[commit == 2 for commit in ask.commits]] * ask.blocks)
        values[failed] = np.nan
        try:
            ask = talk.send(Answer(values, failed))
        except StopIteration as ended:
            found = ended.value

    assert found.steps[0].commits == (2, 3)
    assert isinstance(ask, Ask)


COSTS = [(0.02, 0.02, 0.02)] * 9 + [(0.02, 0.03, 0.016)] * 8


def test_the_command_finds_the_commit(run: Run, tmp_path: Path) -> None:
    """The commit, its parent, its interval and its edit are told, and the commands that show where."""
    ids = make_history(tmp_path, COSTS, broken=(8, 9))
    git(tmp_path, "tag", "last")
    done = run("bisect", "c0..last")
    told = " ".join(done.stdout.split())
    document = json.loads(run("bisect", "--json").stdout)
    schema = json.loads((ROOT / "docs" / "bisect.schema.json").read_text())
    (search,) = document["searches"]
    (step,) = search["steps"]

    jsonschema.validate(document, schema)
    assert step["short"] == ids[10]
    assert step["with"] == [ids[8], ids[9]]
    assert step["change"] == pytest.approx(1.1, abs=0.01)
    assert step["interval"][0] < 1.1 < step["interval"][1]
    assert f"The step is {ids[10]}" in told
    assert f"It may as well be {ids[8]}, {ids[9]}" in told
    assert "bystander inspect walk-1 --only walk" in done.stdout
    assert f"bystander chain walk-1 --hunks {ids[10]} --only walk" in done.stdout
    assert "in question" in done.stderr
    assert "slower" not in done.stderr
    assert "1 arm" not in run("decide").stdout
    apart = run("chain", "walk-1", "--hunks", ids[10], "--only", "walk", "--blocks", "8", "--noise-of", "walk-1").stdout
    assert "4 comparisons, 8 blocks: 2 slower, 2 faster." in apart
    assert f"it has {ids[10]}" in run("chain", "walk-1", "--hunks", ids[9], code=2).stderr
    run("records", "remove", "walk-2", "--yes")
    for command in ("observe", "bisect"):
        assert "complete; there is nothing" in run(command, "--resume", "walk-1", code=2).stderr

    archive = tmp_path / ".bystander" / "archive.sqlite"
    with closing(sqlite3.connect(archive)) as file, file:
        file.execute("update record set state = 'interrupted'")
    assert "bystander bisect --resume walk-1 finishes it" in run("observe", "--resume", code=2).stderr
    run("bisect", "--resume", "--quiet")

    run("records", "export", "--to", "search.json")
    run("records", "export", "--redacted", "--to", "told.json")
    there = ("--archive", "there.sqlite")
    assert "bystander bisect walk-1 --archive" in run("records", "import", "search.json", *there).stdout
    assert json.loads(run("bisect", "--json", *there).stdout)["searches"][0]["steps"][0]["change"] == step["change"]
    assert "what was imported is never run" in run("bisect", "--resume", "walk-1", *there, code=2).stderr
    assert "Step 10" in (tmp_path / "search.json").read_text()
    assert "Step " not in (tmp_path / "told.json").read_text()
    run("records", "import", "told.json", "--archive", "redacted.sqlite")
    assert ids[10] in run("bisect", "--archive", "redacted.sqlite").stdout
    exported = json.loads((tmp_path / "search.json").read_text())
    run("records", "export", "--to", "again.json", *there)
    assert json.loads((tmp_path / "again.json").read_text())["of_search"] == exported["of_search"]
    part = exported["of_search"][0]
    for forged in ({"run": 99}, {"block": [1000 + number for number in part["block"]]}):
        parts = [{**part, **forged}]
        (tmp_path / "forged.json").write_text(json.dumps({**exported, "of_search": parts}))
        assert "run or block that is not there" in run("records", "import", "forged.json", *there, code=2).stderr


def test_other_measures_and_commands_without_a_study_are_searched_too(run: Run, tmp_path: Path) -> None:
    """Counts that repeat exactly take one trial a commit; two workloads share their builds; failing is found."""
    states = [(0.02, 0.02, 0.02)] * 6 + [(0.03, 0.02, 0.02)] * 5
    ids = make_history(tmp_path, states, noise=0.0, answers={n: f"a{n}" for n in range(11)})
    text = (tmp_path / "bystander.toml").read_text()
    more = text[text.index("[workloads.walk]") :].replace("workloads.walk", "workloads.again")
    (tmp_path / "bystander.toml").write_text(text.replace("answer.of", "# ").replace("answer.file", "# ") + more)
    document = json.loads(run("bisect", "c0..c10", "--json", "--quiet").stdout)

    assert [one["steps"][0]["short"] for one in document["searches"]] == [ids[6]] * 2
    assert [one["steps"][0]["kind"] for one in document["searches"]] == ["exact", "exact"]
    for words, said in (
        (("c10..c0",), "no ancestor"), (("c0..c0",), "one commit"), (("--blocks", "9"), "for a search that begins"),
        (("c0..c10", "--resume"), "is for a search that begins"), (("nobody",), "no record"),
    ):  # fmt: skip
        assert said in " ".join(run("bisect", *words, code=2).stderr.split()) or "--resume" in words


def test_a_program_that_begins_to_fail_is_found(run: Run, tmp_path: Path) -> None:
    """Without a study, of one command: the commit since which it ends with an error."""
    ids = make_history(tmp_path, [(0.02, 0.02, 0.02)] * 12)
    git(tmp_path, "checkout", "-q", "c7")
    (tmp_path / "walk.sh").write_text("exit 3\n")
    git(tmp_path, "commit", "-qam", "broken")
    bad = git(tmp_path, "rev-parse", "--short", "HEAD")
    for number in range(4):
        git(tmp_path, "commit", "-q", "--allow-empty", "-m", f"later {number}")
    done = run("bisect", f"{ids[0]}..HEAD", "--quiet", "--", "sh", "walk.sh")

    assert f'The step is {bad}, "broken": it fails, where its parent did not' in " ".join(done.stdout.split())


def test_an_interrupt_and_kills_lose_no_block(run: Run, tmp_path: Path) -> None:
    """Killed again and again, a search ends with the same answer; whole blocks are never run again."""
    kills = int(os.environ.get("BYSTANDER_KILLS", "2"))
    ids = make_history(tmp_path, COSTS, noise=0.02, lasts_s=0.3 if kills > 2 else 0.0)  # so that there is time for all
    study = tmp_path / "bystander.toml"
    study.write_text('margin = "15 %"' + study.read_text())
    rng, archive = np.random.default_rng(6), tmp_path / ".bystander" / "archive.sqlite"
    before: set[tuple[int, int, int]] = set()
    words, hit = ["bisect", "c0..c16", "--seed", "3"], 0
    for number in range(kills):
        process = subprocess.Popen(
            [str(PROGRAM), *words], cwd=tmp_path, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        time.sleep(float(rng.uniform(1.2, 2.4)))
        hit += process.poll() is None
        process.send_signal(signal.SIGINT if number == 0 else signal.SIGKILL)
        process.wait()
        if not archive.exists():
            continue
        with Archive(archive) as kept:
            heads = kept.heads()
            if not heads:
                continue
            words = ["bisect", "--resume"]
            blocks = {(b.run, b.workload, b.number) for b in kept.load(heads[-1].uuid).blocks}
            assert before <= blocks
            before = blocks
            if heads[-1].complete:
                break
    with Archive(archive, create=True) as kept:
        complete = any(head.complete for head in kept.heads())
    if not complete:
        run(*words, "--quiet")
    (search,) = json.loads(run("bisect", "--json").stdout)["searches"]

    assert search["steps"][0]["short"] == ids[9]
    assert "less than the margin of 15 %" in run("bisect").stdout
    assert hit == kills or kills <= 2
    with Archive(archive) as kept:
        assert len(kept.heads()) == 1
        head = kept.heads()[0]
        assert len({arm.name for arm in head.study.arms}) == len(head.arms) == len(head.study.arms)
