"""Pictures of a terminal in a real window, and of a page in a real browser.

Needs Debian's xvfb xterm imagemagick fontconfig fonts-dejavu-core and chromium; `missing_packages` tells which
are not there.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from playwright.sync_api import sync_playwright

__all__ = ["missing_packages", "page_picture", "terminal_picture"]

_PROGRAMS = {
    "Xvfb": "xvfb",
    "xterm": "xterm",
    "import": "imagemagick",
    "fc-list": "fontconfig",
    "chromium": "chromium",
}
_COLOURS = (
    "#3b4252", "#e06c75", "#98c379", "#e5c07b", "#61afef", "#c678dd", "#56b6c2", "#d0d4dc",
    "#5c6370", "#ff7b86", "#b5e890", "#ffd88a", "#82c4ff", "#e08cf5", "#78d6e0", "#ffffff",
)  # fmt: skip
_INNER = r"""
echo "$WINDOWID" > "$PICTURE_FOLDER/window"
printf '\033[1m$ %s\033[0m\n' "$PICTURE_SHOWN"
bash -c "$PICTURE_COMMAND"
printf '\033[?25l'; touch "$PICTURE_FOLDER/done"; sleep 3600
"""


def missing_packages() -> list[str]:
    """Return the Debian packages that are wanted and not there."""
    missing = {package for program, package in _PROGRAMS.items() if shutil.which(program) is None}
    if "fontconfig" not in missing and not _run(["fc-list", "DejaVu Sans Mono"]).strip():
        missing.add("fonts-dejavu-core")
    return sorted(missing)


def _run(words: list[str], display: str | None = None) -> str:
    environment = {**os.environ, **({"DISPLAY": display} if display else {})}
    return subprocess.run(words, env=environment, check=True, capture_output=True, text=True, timeout=60).stdout


@contextmanager
def _display() -> Iterator[str]:
    """Start a display that nobody sees, and end it."""
    read, write = os.pipe()
    words = ["Xvfb", "-displayfd", str(write), "-screen", "0", "2400x1600x24", "-nolisten", "tcp"]
    server = subprocess.Popen(words, pass_fds=[write], stderr=subprocess.DEVNULL)
    os.close(write)
    try:
        yield ":" + os.read(read, 16).decode().strip()
    finally:
        os.close(read)
        server.terminate()
        server.wait()


def _until(path: Path, seconds: float) -> None:
    stop = time.monotonic() + seconds
    while not path.exists() or (not path.read_text().strip() and path.name == "window"):
        if time.monotonic() > stop:
            raise TimeoutError(f"{path.name} did not come within {seconds} s")
        time.sleep(0.05)


def terminal_picture(
    command: str, shown: str, target: Path, folder: Path, rows: int = 41, cols: int = 126, after_s: float | None = None
) -> None:
    """Take a picture of a command in a terminal window.

    Parameters
    ----------
    command, shown : str
        What is run by bash in `folder`, and what the picture shows as typed.
    after_s : float, optional
        Take the picture after so many seconds, while the command runs; by default when it has ended.
    """
    with tempfile.TemporaryDirectory() as scratch, _display() as display:
        mine = Path(scratch)
        environment = {
            name: value for name, value in os.environ.items() if name not in ("COLUMNS", "LINES", "NO_COLOR")
        }
        environment |= {
            "DISPLAY": display, "LC_ALL": "C.UTF-8", "COLORTERM": "truecolor", "PICTURE_FOLDER": scratch,
            "PICTURE_SHOWN": shown, "PICTURE_COMMAND": command,
        }  # fmt: skip
        words = ["xterm", "-u8", "-fa", "DejaVu Sans Mono", "-fs", "12", "-geometry", f"{cols}x{rows}+0+0", "-b", "10"]
        words += ["-bw", "0", "+sb", "-tn", "xterm-256color", "-bg", "#1b1f27", "-fg", "#e4e7ee"]
        for number, colour in enumerate(_COLOURS):
            words += ["-xrm", f"XTerm*color{number}: {colour}"]
        words += ["-xrm", "XTerm*directColor: true", "-e", "/bin/bash", "-c", _INNER]
        terminal = subprocess.Popen(words, env=environment, cwd=folder, stderr=subprocess.DEVNULL)
        try:
            _until(mine / "window", 20)
            if after_s is None:
                _until(mine / "done", 240)
            time.sleep(after_s or 0.6)
            window = (mine / "window").read_text(encoding="ascii").strip()
            _run(["import", "-window", window, "-strip", str(target)], display)
        finally:
            terminal.terminate()
            terminal.wait()


def page_picture(page: Path, target: Path, width: int = 1280, height: int = 800, fragment: str = "") -> None:
    """Take a picture of the top of a page, or of where a fragment of its address leads."""
    arguments = ["--no-sandbox", "--disable-gpu", "--hide-scrollbars"]
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=arguments)
        shown = browser.new_page(viewport={"width": width, "height": height})
        shown.goto(page.resolve().as_uri() + fragment)
        shown.wait_for_timeout(200)
        shown.screenshot(path=target)
        browser.close()
