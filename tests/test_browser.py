"""Pages in a real browser: what a reviewer does with them, on any screen, with and without a script."""

from __future__ import annotations

import json
import os
import re
import shutil
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Literal

import numpy as np
import pytest
from builders import made_record, noisy
from playwright.sync_api import Browser, Page, sync_playwright
from test_outlines import made

from bystander.design import Lane, Timeline
from bystander.flow.commands.decide import decided
from bystander.flow.commands.demo import recorded
from bystander.flow.commands.over_time import trial_over_time
from bystander.flow.commands.report import Asked, write_reports
from bystander.report import TrialSide, inspected_page, lanes, page, trial_page
from bystander.report.pieces import rows
from bystander.verdicts import Decision, Note, decide

Scheme = Literal["light", "dark"]
CHROMIUM = shutil.which("chromium")
if CHROMIUM is None and not os.environ.get("BYSTANDER_SKIP_NOTHING"):
    pytest.skip("there is no chromium here; the tests of pages in a browser are left out", allow_module_level=True)
ARGUMENTS = [
    "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-sync",
    "--disable-background-networking", "--disable-component-update",
]  # fmt: skip


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    """The machine's browser, without a screen."""
    with sync_playwright() as playwright:
        started = playwright.chromium.launch(executable_path=CHROMIUM, args=ARGUMENTS)
        yield started
        started.close()


class Reader:
    """A window with a script and one without, in which files are opened one after the other: few processes start."""

    def __init__(self, browser: Browser) -> None:
        self.wrong: list[str] = []
        self._windows = {script: self._window(browser, script) for script in (True, False)}

    def _window(self, browser: Browser, script: bool) -> Page:
        context = browser.new_context(java_script_enabled=script)
        context.grant_permissions(["clipboard-read", "clipboard-write"])
        shown = context.new_page()
        shown.on("console", lambda message: self.wrong.append(message.text))
        shown.on("pageerror", lambda error: self.wrong.append(str(error)))
        shown.on("request", lambda asked: self._asked(asked.url))
        return shown

    def _asked(self, address: str) -> None:
        if not address.startswith(("file:", "about:")):
            self.wrong.append(address)

    def __call__(
        self, file: Path, width: int = 1280, fragment: str = "", script: bool = True, scheme: Scheme = "light"
    ) -> Page:
        """Open a file, as wide, with or without a script, light or dark."""
        shown = self._windows[script]
        shown.goto("about:blank")
        shown.set_viewport_size({"width": width, "height": 800})
        shown.emulate_media(media="screen", color_scheme=scheme)
        shown.goto(file.as_uri() + fragment)
        return shown


@pytest.fixture(scope="module")
def reader(browser: Browser) -> Reader:
    """The windows that all tests share."""
    return Reader(browser)


@pytest.fixture
def opened(reader: Reader) -> Iterator[Reader]:
    """Open a file; what the page says on its console, or asks of the network, fails the test."""
    reader.wrong.clear()
    yield reader
    assert reader.wrong == []


def many(count: int) -> Decision:
    """Return a decision with as many workloads: every tenth slower, every tenth faster; of every fifth more memory."""
    factors = {0: 1.4, 1: 0.7}
    readings = {
        f"tide-{i}": {
            "before": noisy(12, 0.1, 0.01, i),
            "after": noisy(12, 0.1 * factors.get(i % 10, 1), 0.01, 5000 + i),
        }
        for i in range(count)
    }
    memory = {
        name: {"before": noisy(12, 2e7, 0.01, i), "after": noisy(12, 2e7 * (2 if i % 5 == 3 else 1), 0.01, 9000 + i)}
        for i, name in enumerate(readings)
    }
    return decide(made_record(readings, more={"peak_memory": memory}))


@pytest.fixture(scope="module")
def written(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A page of 75 rows, of which 65 are folded away at first."""
    file = tmp_path_factory.mktemp("pages") / "review.html"
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(rows, "AT_ONCE", 10)
        file.write_text(page(many(75)), encoding="utf-8")
    return file


@pytest.fixture(scope="module")
def office(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder with the page of the harbour office as it was recorded, and one of a trial over time."""
    folder = tmp_path_factory.mktemp("harbour")
    archive = folder / "archive.sqlite"
    name = recorded(archive)
    decision, _ = decided(archive, name)
    write_reports(Asked(decision, archive=archive), [folder / "review.html"])
    trial = trial_over_time(archive, name, "chart/0", ".html")
    (folder / "trial.html").write_text(trial, encoding="utf-8")
    return folder


def names(shown: Page) -> list[str]:
    """Return the names of the rows that are in the page, in their order."""
    found: list[str] = shown.eval_on_selector_all("details.row", "rows => rows.map(row => row.dataset.n || row.id)")
    return found


def until(shown: Page, holds: str) -> None:
    """Wait until an expression holds; asked from here, as the page's own policy lets nobody wait in it."""
    for _ in range(200):
        if shown.evaluate(holds):
            return
        shown.wait_for_timeout(20)
    raise AssertionError(f"it never came to be: {holds}")


def count(shown: Page) -> str:
    """Return what the page says of how many rows it shows."""
    return shown.locator("form[role=search] output").inner_text()


def test_rows_are_found_filtered_and_sorted(opened: Reader, written: Path) -> None:
    """What is shown is what was asked for; few rows are in the page at once; the address keeps the state."""
    shown = opened(written)
    assert count(shown) == "75 of 75 rows"
    assert len(names(shown)) == 60
    shown.locator("[name=verdict]").select_option("slower")
    assert count(shown) == "8 of 75 rows"
    assert set(shown.locator("summary .verdict").all_inner_texts()) == {"▲ slower"}
    shown.locator("[name=order]").select_option("name")
    assert [text.removeprefix("▸ ") for text in shown.locator(".row .name").all_inner_texts()] == [
        f"tide-{i}" for i in range(0, 75, 10)
    ]
    shown.locator("form[role=search] [name=find]").fill("tide-1 slower")
    assert count(shown) == "1 of 75 rows"
    assert "find=tide-1+slower" in shown.url
    again = opened(written, fragment=shown.url.partition(".html")[2])
    assert count(again) == "1 of 75 rows"
    assert again.locator("[name=order]").input_value() == "name"
    again.get_by_role("button", name="show all").click()
    until(again, "document.querySelector('output').textContent.startsWith('75')")
    assert again.url.endswith("#")


def test_rows_are_seen_by_another_measure(opened: Reader, written: Path) -> None:
    """The words of a row are then those of that measure; and again its own."""
    shown = opened(written)
    before = shown.locator(".row .told").first.inner_text()
    shown.locator("[name=measure]").select_option(label="peak memory")
    assert count(shown) == "75 of 75 rows"
    shown.locator("[name=verdict]").select_option("more")
    assert count(shown) == "15 of 75 rows"
    assert all(text.startswith("more ") for text in shown.locator(".row .told").all_inner_texts())
    shown.get_by_role("button", name="show all").click()
    until(shown, "document.querySelector('output').textContent.startsWith('75')")
    assert shown.locator(".row .told").first.inner_text() == before


def test_more_rows_come_when_one_scrolls(opened: Reader, written: Path) -> None:
    """To the last one, with their details."""
    shown = opened(written)
    for _ in range(3):
        shown.locator("footer, .after").last.scroll_into_view_if_needed()
        shown.wait_for_timeout(30)
    last = shown.locator("details.row").last
    assert len(names(shown)) == 75
    assert not shown.locator(".more").is_visible()
    last.locator("summary").first.click()
    assert last.locator("figure.strip").is_visible()


def test_a_link_opens_its_row(opened: Reader, written: Path) -> None:
    """One that is folded away too; a name that is no row's is no error."""
    row = re.findall(r'<noscript data-i="(row-\w+)"', written.read_text(encoding="utf-8"))[-1]
    shown = opened(written, fragment=f"#{row}&verdict=slower")
    assert shown.locator(f"#{row}[open]").count() == 1
    assert shown.locator(f"#{row} figure.blocks").is_visible()
    opened(written, fragment="#row-nothing&order=nonsense&find=%")


def test_everything_is_done_by_keyboard(opened: Reader, written: Path) -> None:
    """Tab reaches every control, Enter opens a row, arrows go from row to row; focus is seen."""
    shown = opened(written, fragment="#find=tide-1")
    reached = []
    for _ in range(12):
        shown.keyboard.press("Tab")
        reached.append(shown.evaluate("document.activeElement.name || document.activeElement.tagName"))
    assert [name for name in reached if name.islower()] == ["find", "verdict", "measure", "word", "order"]
    shown.locator("summary.line").first.focus()
    shown.keyboard.press("ArrowDown")
    shown.keyboard.press("ArrowDown")
    shown.keyboard.press("ArrowUp")
    shown.keyboard.press("Enter")
    assert shown.locator("details.row[open]").count() == 1
    assert shown.locator("details.row").nth(1).get_attribute("open") is not None
    assert shown.evaluate("getComputedStyle(document.activeElement).outlineStyle") == "solid"
    row = shown.locator("details.row[open]")
    row.get_by_text("As text for a comment").focus()
    shown.keyboard.press("Enter")
    shown.keyboard.press("Tab")
    shown.keyboard.press("Enter")
    until(shown, "[...document.querySelectorAll('button[data-copies]')].some(b => b.textContent != 'copy it')")


def test_a_row_is_copied_as_text(opened: Reader, written: Path) -> None:
    """What lies on the clipboard is what stands there."""
    shown = opened(written, fragment="#order=name")
    row = shown.locator("details.row").first
    row.locator("summary").first.click()
    row.get_by_text("As text for a comment").click()
    row.get_by_role("button", name="copy it").click()
    row.get_by_role("button", name="copied").wait_for()
    assert shown.evaluate("navigator.clipboard.readText()").startswith("tide-0: slower by ")


def test_without_a_script_the_page_is_whole(opened: Reader, written: Path) -> None:
    """Every row is there and opens; controls that would do nothing are not."""
    shown = opened(written, script=False)
    assert shown.locator("details.row").count() == 75
    last = shown.locator("details.row").last
    last.locator("summary").first.click()
    assert last.locator("figure.strip").is_visible()
    assert last.get_by_text("not tested: least").is_visible()
    assert not shown.locator("form[role=search]").is_visible()
    shown.get_by_text("How the verdicts were reached").click()
    assert shown.get_by_text("Hodges and Lehmann 1963").is_visible()


def test_pages_fit_every_screen(opened: Reader, office: Path) -> None:
    """Nothing is wider than a phone, also with everything open; a picture keeps its width there."""
    for name in ("review.html", "trial.html"):
        shown = opened(office / name)
        shown.evaluate("for (const one of document.querySelectorAll('details')) one.open = true")
        for width in (1280, 768, 360):
            shown.set_viewport_size({"width": width, "height": 800})
            found = shown.evaluate("""() => {
                const pictures = [...document.querySelectorAll("svg.bar, svg.lane")];
                const widths = pictures.map(one => one.getBoundingClientRect().width);
                return [document.documentElement.scrollWidth, ...widths];
            }""")
            assert found[0] <= width
            assert len(found) > 4
            assert min(found[1:5]) > 0.25 * width
        if name == "review.html":
            letters = shown.locator("main").inner_text()
            assert "Where the answers part" in letters
            assert "Over time: the fastest trial, chart/" in letters


def test_dark_pages_are_dark_and_paper_is_white(opened: Reader, written: Path) -> None:
    """Colours follow what the reader asked for; on paper controls are gone, and what was folded is there."""

    def ground(shown: Page) -> int:
        return int(re.findall(r"\d+", shown.evaluate("getComputedStyle(document.body).backgroundColor"))[0])

    assert ground(opened(written)) > 240
    dark = opened(written, scheme="dark")
    assert ground(dark) < 40
    dark.emulate_media(media="print")
    assert ground(dark) == 255
    assert not dark.locator("form[role=search]").is_visible()
    dark.evaluate("dispatchEvent(new Event('beforeprint'))")
    assert dark.get_by_text("Hodges and Lehmann 1963").is_visible()
    dark.evaluate("dispatchEvent(new Event('afterprint'))")
    assert dark.locator("details.part[open]").count() == 0


def test_a_page_is_read_aloud(opened: Reader, written: Path) -> None:
    """It has a language, one heading of the first level, names for all controls, and words for all pictures."""
    shown = opened(written)
    shown.locator("summary.line").first.click()
    assert shown.locator("html").get_attribute("lang") == "en"
    assert shown.locator("h1").count() == 1
    assert shown.locator("main").count() == 1
    unnamed = shown.evaluate("""() => {
        const all = (what, bad) => [...document.querySelectorAll(what)].filter(bad).length;
        return all("input, select", one => !one.labels.length) + all("svg[role=img]", one => !one.ariaLabel)
            + all("svg", one => !one.closest("[role=img], [aria-hidden]"))
            + all("figure", one => !one.querySelector("figcaption").textContent.trim());
    }""")
    assert unnamed == 0
    heard = shown.locator("details.row[open]").aria_snapshot()
    assert "tide-" in heard
    assert "trials from" in heard


HOSTILE = "</summary></noscript><script>window.ran = 1</script><img src=x onerror='window.ran = 1'>\"'{{ 7 * 7 }}"


def test_hostile_texts_are_inert(opened: Reader, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """In names, notes, answers and trials over time; in rows that are folded away, found and copied too."""
    before = {f"{HOSTILE}{i}": {"a": noisy(6, 0.1, 0.01, i), HOSTILE: noisy(6, 0.2, 0.01, i)} for i in range(8)}
    monkeypatch.setattr(rows, "AT_ONCE", 3)
    decision = decide(made_record(before))
    noted = tuple(row._replace(notes=(*row.notes, Note(HOSTILE.replace(" ", "-"), HOSTILE))) for row in decision.rows)
    answers = {row.key: (HOSTILE,) for row in noted}
    decision = replace(decision, rows=noted, answers=answers, notes=(Note("record-note", HOSTILE),))
    zero = np.zeros(1, dtype=np.int64)
    line = Timeline((HOSTILE,), (HOSTILE,), (Lane(1, 1, HOSTILE),), zero, zero + 9, zero, zero, zero, zero, zero - 1,
                    zero.astype(bool), 10)  # fmt: skip
    seen = {name: [(HOSTILE, lanes([TrialSide(HOSTILE, HOSTILE, line)]))] for name in before}
    files = {
        "review.html": page(decision, seen=seen),
        "trial.html": trial_page(HOSTILE, [TrialSide("a", "b", line)], [HOSTILE]),
    }
    for name, text in files.items():
        (tmp_path / name).write_text(text, encoding="utf-8")
        for script in (True, False):
            shown = opened(tmp_path / name, script=script)
            if script and name == "review.html":
                shown.locator("form[role=search] [name=find]").fill("onerror='window.ran = 1'>")
                assert count(shown) == "8 of 8 rows"
                assert shown.locator("details.row").count() == 8
            shown.eval_on_selector_all("details", "all => all.forEach(one => one.open = true)") if script else None
            assert shown.locator("img").count() == 0
            assert HOSTILE in shown.locator("main").inner_text() or not script
            if script:
                assert shown.evaluate("window.ran") is None


def test_phases_are_found_and_measured(opened: Reader, tmp_path: Path) -> None:
    """Between two points each phase has the time that lies there, by keyboard or by clicks; in each arm."""
    begin = np.array([0, 40_000_000, 60_000_000], dtype=np.int64)
    end = np.array([30_000_000, 50_000_000, 100_000_000], dtype=np.int64)
    zero = np.zeros(3, dtype=np.int64)
    line = Timeline(("read", "plan"), ("",), (Lane(1, 1, "MainThread"),), begin, end, zero, np.array([0, 1, 0]), zero,
                    zero, zero - 1, zero.astype(bool), 100_000_000)  # fmt: skip
    (tmp_path / "t.html").write_text(trial_page("t", [TrialSide("now", "100 ms", line)], []), encoding="utf-8")
    shown = opened(tmp_path / "t.html")
    told = shown.locator("output")
    shown.get_by_label("find a phase").fill("read")
    assert told.inner_text() == "Found. now: read 70 ms (2 instances)."
    assert shown.locator(".ph.dim").count() == 1
    shown.get_by_role("button", name="clear").click()
    until(shown, "!document.querySelector('.dim')")
    shown.get_by_label("from").press_sequentially("20")
    assert told.inner_text() == "Give the other point too."
    shown.keyboard.press("Tab")
    shown.keyboard.type("70")
    assert told.inner_text() == "50 ms from 20 ms to 70 ms. now: read 20 ms (2 instances), plan 10 ms (1 instance)."
    shown.keyboard.type("x")
    assert "is a number of milliseconds" in told.inner_text()
    lane = shown.locator("svg.lane")
    box = lane.bounding_box()
    assert box is not None
    for share in (0.45, 0.9):
        lane.click(position={"x": share * box["width"], "y": 4}, force=True)
    assert shown.locator(".cut").count() == 2
    assert re.match(r"(44|45|46)(\.\d)? ms from 4[45].* plan 5\.?\d* ms", told.inner_text().replace(", ", " ", 1)) or (
        "plan 5" in told.inner_text()
    )


def test_a_page_that_is_framed_works(opened: Reader, tmp_path: Path, written: Path) -> None:
    """As a pipeline's viewer shows it: in a frame of its own, whose address is none."""
    text = json.dumps(written.read_text(encoding="utf-8")).replace("</", "<\\/")
    frame = tmp_path / "frame.html"
    frame.write_text(
        "<!doctype html><iframe width=900 height=700 sandbox='allow-scripts'></iframe>"
        f"<script>document.querySelector('iframe').srcdoc = {text}</script>", encoding="utf-8",
    )  # fmt: skip
    inner = opened(frame).frame_locator("iframe")
    inner.locator("summary.line").first.click()
    assert inner.locator("details.row[open] figure.strip").is_visible()


def test_places_are_found_and_gone_into(opened: Reader, tmp_path: Path) -> None:
    """Among many; narrowed to one and back; whole without a script; hostile names are texts; on a phone too."""
    file = tmp_path / "leads.html"
    file.write_text(inspected_page([made(2000, f"{HOSTILE} tide")]), encoding="utf-8")
    shown = opened(file)
    shown.locator("summary", has_text="The mirror").click()
    places = shown.locator("[data-places]")
    assert places.locator("output").inner_text() == "2000 places, the first 60 shown"
    places.locator("[name=find]").fill("tide1999")
    assert places.locator("output").inner_text() == "1 of 2000 places"
    assert "tide1999" in places.locator("tbody tr").inner_text()
    places.locator("[name=find]").fill("tide12")
    places.locator("tbody tr a").nth(1).click()  # tide120, which begins a chain of ten
    visible = "[...document.querySelectorAll('.outline .branch')].filter(one => !one.hidden).length"
    assert shown.evaluate(visible) == 10
    assert shown.locator(".mirror .branch:visible").count() == 10
    assert "Only what lies under" in shown.locator(".crumbs").inner_text()
    shown.go_back()
    assert shown.evaluate(visible) == 300
    assert shown.evaluate("window.ran") is None
    shown.set_viewport_size({"width": 360, "height": 800})
    assert shown.evaluate("document.documentElement.scrollWidth") <= 360
    plain = opened(file, script=False)
    assert plain.locator("[data-places] tr[data-s]").count() == 2000
    assert not plain.locator("[data-places] form").is_visible()
    assert plain.locator("img").count() == 0
