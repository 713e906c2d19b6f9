"""Take the pictures of docs/screenshots anew, from the harbour office.

usage: python tools/screenshots.py [NAME ...]

Run as root on Linux, the terminal is put on a stage with an invented machine: a mount and host name space of
its own, in which the program lies in /home/office. Otherwise the pictures show this machine.
"""

from __future__ import annotations

import os
import shlex
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

from pictures import missing_packages, page_picture, terminal_picture

from bystander.report.pieces.rows import row_id

ROOT = Path(__file__).resolve().parents[1]
TARGET = ROOT / "docs" / "screenshots"
PROGRAM = "/home/office/bystander/.venv/bin/python3 -m bystander"
STAGE = """
mount -t tmpfs none /home
mkdir -p /home/office/bystander /home/office/bin {office}
mount --bind {root} /home/office/bystander
printf '#!/bin/sh\\nexec {program} "$@"\\n' > /home/office/bin/bystander
chmod +x /home/office/bin/bystander
sed 's/^model name.*/model name\\t: Tern T2/' /proc/cpuinfo > /home/cpuinfo
mount --bind /home/cpuinfo /proc/cpuinfo
printf 'PRETTY_NAME="Lantern Linux 4"\\n' > /home/os-release
mount --bind /home/os-release /etc/os-release
hostname harbour-desk
export HOME=/home/office PATH=/home/office/bin:/usr/bin:/bin BYSTANDER_LOCK=/home/office/lock
cd /home/office
bystander demo harbour-office --recorded > /dev/null
cd {folder}
{prepare}
{command}
"""


# What is done in the folder before a picture is taken; {python} can import the program.
FAILURES = """
{python} -c "from pathlib import Path; from bystander.flow.commands.demo import lay_out; lay_out(Path('pilots'), True)"
cd pilots
bystander observe --quiet --seed 3 --only roster --only pilot-call --only start > /dev/null 2>&1
"""
HISTORY = """
bystander demo ../harbour-day --history --recorded > /dev/null
cd ../harbour-day
"""


AGAIN = """
bystander observe --quiet -- python3 -m tidebook gauge --days 20 > /dev/null 2>&1
git show v1:tidebook/telegrams.py > tidebook/telegrams.py
"""


CEILINGS = """
cat > answer.toml <<'TOML'
name = "harbour office: is a gauge answered in time?"
margin = "10 %"
blocks = 60
stopping = "fixed"
seed = 5
[arms.before]
revision = "v1"
[arms.after]
revision = "v2"
[workloads.gauge]
command = "python3 -m tidebook gauge --days 20"
ceiling.elapsed = "90 ms for 80 %"
ceiling.peak_memory = "15 MiB for 80 %"
TOML
bystander observe --quiet --study answer.toml > /dev/null 2>&1
"""


def staged(command: str, folder: str = "harbour-office", prepare: str = "") -> str:
    """Return a command that runs on the stage, where that can be set up."""
    if os.geteuid() == 0 and shutil.which("unshare"):
        before = prepare.format(python=PROGRAM.split()[0], scratch="/home/office/shared")
        text = STAGE.format(
            office="/home/office", root=ROOT, program=PROGRAM, command=command, folder=folder, prepare=before
        )
        return f"unshare --mount --uts bash -c {shlex.quote(text)}"
    own = Path(sys.executable).with_name("bystander")
    return (
        f"cd $(mktemp -d) && PATH={own.parent}:$PATH && bystander demo harbour-office --recorded > /dev/null && "
        f"cd {folder}; {prepare.format(python=sys.executable, scratch='/tmp/shared')}{command}"
    )


def shot(
    name: str,
    command: str,
    folder: str = "harbour-office",
    rows: int = 41,
    after_s: float | None = None,
    prepare: str = "",
) -> None:
    """Take one picture of a terminal."""
    line = staged(command, folder, prepare)
    terminal_picture(line, command, TARGET / f"{name}.png", Path("/tmp"), rows, after_s=after_s)


def report_page() -> None:
    """Take the pictures of the page for a reviewer, of one of its rows, and of the forest by itself."""
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch, "harbour-office")
        program = str(Path(sys.executable).with_name("bystander"))
        subprocess.run([program, "demo", str(folder), "--recorded"], check=True, stdout=subprocess.DEVNULL)
        page_picture(folder / "review.html", TARGET / "report.png")
        page_picture(folder / "review.html", TARGET / "row.png", fragment=f"#{row_id('gauge')}")
        archive = ("--archive", str(folder / ".bystander" / "archive.sqlite"))
        subprocess.run(
            [program, "report", "--to", str(TARGET / "forest.png"), *archive], check=True, stdout=subprocess.DEVNULL
        )


def leads_page() -> None:
    """Take the picture of the page of leads, with its outline."""
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch, "harbour-office")
        program = str(Path(sys.executable).with_name("bystander"))
        subprocess.run([program, "demo", str(folder), "--recorded"], check=True, stdout=subprocess.DEVNULL)
        page, archive = folder / "leads.html", folder / ".bystander" / "archive.sqlite"
        words = ["leads", "--only", "gauge", "--to", str(page), "--archive", str(archive)]
        subprocess.run([program, *words], check=True, stdout=subprocess.DEVNULL)
        page_picture(page, TARGET / "leads-page.png")


def trial_page() -> None:
    """Take the picture of one trial of the recorded demo over time."""
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch, "harbour-office")
        program = str(Path(sys.executable).with_name("bystander"))

        def run(*words: str) -> None:
            subprocess.run([program, *words], check=True, stdout=subprocess.DEVNULL, cwd=folder.parent)

        run("demo", str(folder), "--recorded")
        archive = ("--archive", str(folder / ".bystander" / "archive.sqlite"))
        run("records", "show", "--trial", "chart/9", "--to", str(folder / "trial.html"), *archive)
        page_picture(folder / "trial.html", TARGET / "trial.png")


def ladder_page() -> None:
    """Take the picture of the page of a ladder, of one workload."""
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch, "harbour-day")
        program = str(Path(sys.executable).with_name("bystander"))
        subprocess.run([program, "demo", str(folder), "--history", "--recorded"], check=True, stdout=subprocess.DEVNULL)
        page, archive = folder / "day.html", folder / ".bystander" / "archive.sqlite"
        words = ["chain", "harbour-day-1", "--only", "day", "--to", str(page), "--archive", str(archive)]
        subprocess.run([program, *words], check=True, stdout=subprocess.DEVNULL)
        page_picture(page, TARGET / "ladder.png")


PICTURES: dict[str, Callable[[], None]] = {
    "demo": lambda: shot("demo", "bystander demo --recorded", folder="/tmp && rm -rf harbour-office", rows=76),
    "check": lambda: shot("check", "bystander check --only notices --only chart --only watch", rows=45),
    "observe": lambda: shot("observe", "bystander observe", after_s=38, rows=23),
    "decide": lambda: shot("decide", "bystander decide", rows=70),
    "leads-page": leads_page,
    "leads": lambda: shot("leads", "bystander leads", rows=43),
    "inspect": lambda: shot(
        "inspect", "bystander inspect --quiet --first 6 -- /usr/bin/python3 -m tidebook moorings --ships 3000", rows=29
    ),
    "again": lambda: shot("again", "bystander observe --again", prepare=AGAIN, rows=28),
    "pipeline": lambda: shot(
        "pipeline", "bystander observe --gate slower,other-answer --quiet --only gauge --only notices", rows=18
    ),
    "ceilings": lambda: shot("ceilings", "bystander decide", prepare=CEILINGS, rows=31),
    "records": lambda: shot("records", "bystander records list; bystander records show", rows=24),
    "failures": lambda: shot("failures", "bystander decide", prepare=FAILURES, rows=28),
    "trial": trial_page,
    "chain": lambda: shot("chain", "bystander chain --only day", prepare=HISTORY, rows=65),
    "ladder": ladder_page,
    "bisect": lambda: shot("bisect", "bystander bisect start..main --only gauge --quiet", prepare=HISTORY, rows=13),
    "report": report_page,
}


def main() -> int:
    """Take the pictures that are named, or all of them."""
    if missing := missing_packages():
        print("missing Debian packages: apt-get install --no-install-recommends " + " ".join(missing), file=sys.stderr)
        return 1
    TARGET.mkdir(parents=True, exist_ok=True)
    for name in sys.argv[1:] or PICTURES:
        PICTURES[name]()
        print(TARGET / f"{name}.png")
    return 0


if __name__ == "__main__":
    sys.exit(main())
