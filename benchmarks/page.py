"""A page of 10,000 rows in a real browser: until it is seen and can be used, and how quickly it sorts and filters.

Held against a plain table of the same rows in the same browser, in turn. Needs Debian's chromium.
"""

from __future__ import annotations

import statistics
import sys
import tempfile
import time
from html import escape
from pathlib import Path

import numpy as np
from playwright.sync_api import Page, sync_playwright

sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "tests"))

from builders import made_record  # type: ignore[import-not-found, import-untyped, unused-ignore]
from common import tell

from bystander.report import page
from bystander.verdicts import Decision, change_text, decide

ROWS, BLOCKS, TURNS = 10_000, 20, 5
ACTIONS = {
    "sorted by change": ("order", "most"), "sorted by name": ("order", "name"),
    "filtered by verdict": ("verdict", "slower"), "found by a word": ("find", "tide-04"), "all again": ("find", ""),
    "seen by memory": ("measure", "1"),
}  # fmt: skip
CHANGE = """async ([name, value]) => {
    const form = document.querySelector("form[role=search]");
    const begun = performance.now();
    form[name].value = value;
    form.dispatchEvent(new Event("input", { bubbles: true }));
    await new Promise(done => requestAnimationFrame(() => setTimeout(done)));
    return performance.now() - begun;
}"""


def made(rows: int) -> Decision:
    """Return a decision of so many rows by two measures; a third of them changed."""
    chance = np.random.default_rng(7)
    factors = chance.choice([1.0, 1.0, 1.0, 1.0, 1.3, 0.7], rows)

    def readings(usual: float, factor: np.ndarray) -> dict[str, dict[str, list[float]]]:
        both = usual * np.exp(chance.normal(0, 0.02, (2, rows, BLOCKS)))
        return {
            f"tide-{i:05d}": {"before": both[0, i].tolist(), "after": (both[1, i] * factor[i]).tolist()}
            for i in range(rows)
        }

    return decide(made_record(readings(0.1, factors), more={"peak_memory": readings(2e7, np.ones(rows))}))


def plain(decision: Decision) -> str:
    """Return the same rows as a table and nothing else."""
    lines = "".join(
        f"<tr><td>{escape(row.workload)}</td><td>{row.verdict}</td><td>{escape(change_text(row))}</td></tr>"
        for row in decision.primary
    )
    return f"<!doctype html><meta charset=utf-8><title>plain</title><table>{lines}</table>"


def opened(shown: Page, file: Path) -> tuple[float, float]:
    """Return seconds until something is seen, and until the page is ready."""
    shown.goto("about:blank")
    begun = time.monotonic()
    shown.goto(file.as_uri(), wait_until="domcontentloaded")
    ready = time.monotonic() - begun
    seen = "performance.getEntriesByType('paint')[0]?.startTime ?? 0"
    while not shown.evaluate(seen):
        shown.wait_for_timeout(5)
    return shown.evaluate(seen) / 1000, ready


def main() -> None:
    """Measure, and print medians."""
    with tempfile.TemporaryDirectory() as scratch, sync_playwright() as playwright:
        begun = time.monotonic()
        decision = made(ROWS)
        text = page(decision)
        files = {"page": Path(scratch, "page.html"), "plain": Path(scratch, "plain.html")}
        files["page"].write_text(text, encoding="utf-8")
        files["plain"].write_text(plain(decision), encoding="utf-8")
        print(f"page: {ROWS} rows, {len(text) / 1e6:.0f} MB, decided and written in {time.monotonic() - begun:.0f} s")
        arguments = ["--no-sandbox", "--disable-gpu"]
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=arguments)
        shown = browser.new_page(viewport={"width": 1280, "height": 800})
        turns = [{name: opened(shown, file) for name, file in files.items()} for _ in range(TURNS)]
        seen = statistics.median(turn["page"][0] for turn in turns)
        ready = statistics.median(turn["page"][1] for turn in turns)
        ratio = statistics.median(turn["page"][1] / turn["plain"][1] for turn in turns)
        tell(f"{ROWS} rows: first seen", seen, "s", "under 2")
        tell(f"{ROWS} rows: ready to be used", ready, "s", "under 2")
        tell(f"{ROWS} rows: ready, over a plain table of them", ratio, "times", "-")
        shown.goto(files["page"].as_uri())
        for what, words in ACTIONS.items():
            took = statistics.median(shown.evaluate(CHANGE, list(words)) for _ in range(TURNS))
            tell(f"{ROWS} rows: {what}", took / 1000, "s", "under 0.3")
        browser.close()


if __name__ == "__main__":
    main()
