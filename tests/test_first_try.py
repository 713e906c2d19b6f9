"""What is typed without a study and fails, or finds nothing, ends at its first try with what to mend."""

from __future__ import annotations

from pathlib import Path

from conftest import Run


def test_a_command_that_fails_stops_at_once(run: Run, tmp_path: Path) -> None:
    """With the end of what it printed, and with a shell where one was meant; nothing is recorded."""
    said = run("observe", "--", "ls", "nowhere", "|", "wc", "-l", code=1).stderr
    assert "ls fails in its first try (exit 2); nothing was recorded:" in said
    assert "cannot access 'nowhere'" in said
    assert "  bystander observe -- sh -c 'ls nowhere | wc -l'" in said
    assert "holds no record yet" in run("decide", code=2).stderr
    both = run("observe", "--fixed", "6", "--arm", "a=false", "--arm", "b=true")
    assert "6 of 6 trials failed" in both.stdout


def test_a_number_that_nothing_prints_is_refused(run: Run) -> None:
    """Before anything is recorded of it."""
    said = run("observe", "--number", "rows=rows: (\\d+)", "--", "echo", "hello", code=2).stderr
    assert '--number: echo prints no number "rows" under now' in " ".join(said.split())


def test_a_line_that_never_comes_is_told_with_why(run: Run) -> None:
    """Programs hold lines back in a pipe."""
    said = run("observe", "--ready", "Listening", "--", "echo", "hello", code=2).stderr
    assert "printed no line that Listening matches" in said
    assert "stdbuf -oL" in said


def test_arguments_that_json_cannot_hold_are_made_by_a_function(run: Run, tmp_path: Path) -> None:
    """Bytes, sets and infinities: the sentence names the option; a generator is told to have run nothing."""
    (tmp_path / "tides.py").write_text("def level(n):\n    yield from range(n)\n")
    for given in ('b"ebb"', "{1, 2}", "1e999"):
        refused = run("observe", "--call", "tides:level", "--given", given, code=2).stderr
        assert "--make-input module:function" in refused
    said = run("observe", "--call", "tides:level", "--given", "9", "--fixed", "2").stderr
    assert "level returns a generator: nothing of it ran" in said
    assert "--make-input goes with --call" in run("inspect", "--make-input", "tides:level", code=2).stderr
