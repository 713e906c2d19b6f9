"""A page of leads of 20,000 places in a real browser: until it is seen and can be used, and how quickly it finds.

Needs Debian's chromium.
"""

from __future__ import annotations

import statistics
import sys
import tempfile
import time
from pathlib import Path

from playwright.sync_api import sync_playwright

sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "tests"))

from common import tell
from page import opened
from test_outlines import made  # type: ignore[import-not-found, import-untyped, unused-ignore]

from bystander.report import inspected_page

PLACES, TURNS = 20_000, 5
FIND = """async (word) => {
    const form = document.querySelector("[data-places] form");
    const begun = performance.now();
    form.find.value = word;
    form.dispatchEvent(new Event("input", { bubbles: true }));
    await new Promise(done => requestAnimationFrame(() => setTimeout(done)));
    return performance.now() - begun;
}"""
NARROW = """async (hash) => {
    const begun = performance.now();
    location.hash = hash;
    await new Promise(done => addEventListener("hashchange", () => setTimeout(done), { once: true }));
    return performance.now() - begun;
}"""


def main() -> None:
    """Measure, and print medians."""
    with tempfile.TemporaryDirectory() as scratch, sync_playwright() as playwright:
        begun = time.monotonic()
        text = inspected_page([made(PLACES)])
        file = Path(scratch, "leads.html")
        file.write_text(text, encoding="utf-8")
        print(f"page: {PLACES} places, {len(text) / 1e6:.1f} MB, written in {time.monotonic() - begun:.1f} s")
        browser = playwright.chromium.launch(
            executable_path="/usr/bin/chromium", args=["--no-sandbox", "--disable-gpu"]
        )
        shown = browser.new_page(viewport={"width": 1280, "height": 800})
        turns = [opened(shown, file) for _ in range(TURNS)]
        tell(f"{PLACES} places: first seen", statistics.median(turn[0] for turn in turns), "s", "under 2")
        tell(f"{PLACES} places: ready to be used", statistics.median(turn[1] for turn in turns), "s", "under 2")
        for word in ("place19", "nowhere", "place.py:7", ""):
            first = shown.evaluate(FIND, word)
            later = statistics.median(shown.evaluate(FIND, word) for _ in range(TURNS))
            tell(f'{PLACES} places: "{word}" found, the first time', first / 1000, "s", "under 0.2")
            tell(f'{PLACES} places: "{word}" found again', later / 1000, "s", "under 0.2")
        took = statistics.median(shown.evaluate(NARROW, f"#under=0.{10 * k}") for k in range(1, TURNS + 1))
        tell(f"{PLACES} places: narrowed to one", took / 1000, "s", "under 0.2")
        browser.close()


if __name__ == "__main__":
    main()
