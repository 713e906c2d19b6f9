"""An ill-behaved program as a trial of an observation or an inspection: what came of it, and what is wrong."""

from __future__ import annotations

import os
import resource
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path

PROGRAM = Path(sys.executable).with_name("bystander")
ILL_BEHAVED = Path(__file__).with_name("programs") / "ill_behaved.py"
sys.path.insert(0, str(ILL_BEHAVED.parent))
import ill_behaved  # noqa: E402
from program import Program  # noqa: E402

KINDS = ("command", "callable", "inspected")
NAMES, FATAL = ill_behaved.NAMES, ill_behaved.FATAL
LIMIT_S = 1.0
_STUDY = """
blocks = 2
stopping = "fixed"
[arms.now]
folder = "."
[workloads.ill]
{what}
limit = "{limit} s"
output = "32 MiB"
{more}
[workloads.well]
command = "echo ebb"
answer = "output"
"""
_MOST_MEMORY = 2**30
_START_S = 12.0  # of the program, of a workload that behaves well, and of a machine that is busy


def study_text(name: str, kind: str, python: Path) -> str:
    """Return the study of one of them, beside a workload that behaves well."""
    what = f'call = "ill_behaved:{name}"\npython = "{python}"\nsamples = 5'
    if kind != "callable":
        what = f'command = "{python} -S ill_behaved.py {name}"'
    more = ['memory = "1 GiB"'] if name == "takes_all_memory" else []
    more += [f'spans = "{ill_behaved.SPANS}"'] if "span" in name or name == "infinite_thread" else []
    if "answer" in name and kind != "callable":
        more.append(f'answer = {{ of = "file", file = "{ill_behaved.ANSWER}" }}')
    return _STUDY.format(what=what, limit=LIMIT_S, more="\n".join(more))


class Attack:
    """Runs one of them and gathers what is wrong with how it ended."""

    def __init__(
        self, name: str, kind: str, folder: Path, user: int | None = None, program: Path = PROGRAM,
        loaded: Program | None = None,
    ) -> None:  # fmt: skip
        self.loaded = loaded
        self.name, self.kind, self.folder, self.user, self.program = name, kind, folder, user, program
        self.wrong: list[str] = []
        text = study_text(name, kind, program.with_name("python"))
        (folder / "bystander.toml").write_text(text, encoding="utf-8")
        shutil.copy(ILL_BEHAVED, folder)
        (folder / "tmp").mkdir()
        if user is not None:
            for path in (folder, *folder.rglob("*")):
                os.chown(path, user, user)

    def run(self, *words: str) -> tuple[int, str]:
        """Run the installed program to its end; return its exit code and what it said."""
        environment = {
            **os.environ, "TMPDIR": str(self.folder / "tmp"), "BYSTANDER_LOCK": str(self.folder / "lock"),
            "NO_COLOR": "1", "BYSTANDER_TRACEBACK": "1", "HOME": str(self.folder),
        }  # fmt: skip
        if self.loaded:
            done = self.loaded.run(words, self.folder, environment, 60)
            return done.returncode, done.stdout + done.stderr
        with (self.folder / "said").open("w+b") as said:
            process = subprocess.Popen(
                [str(self.program), *words], cwd=self.folder, env=environment, stdin=subprocess.DEVNULL, stdout=said,
                stderr=said, user=self.user, group=self.user, extra_groups=[] if self.user is not None else None,
            )  # fmt: skip
            stop = time.monotonic() + 60
            while time.monotonic() < stop:
                pid, status, used = os.wait4(process.pid, os.WNOHANG)
                if pid:
                    break
                time.sleep(0.01)
            else:
                self.wrong.append("it did not end within a minute")
                process.kill()
                _, status, used = os.wait4(process.pid, 0)
            process.returncode = os.waitstatus_to_exitcode(status)
            if used.ru_maxrss * 1024 > _MOST_MEMORY:
                self.wrong.append(f"it took {used.ru_maxrss / 1024:.0f} MiB")
            said.seek(0)
            return process.returncode, said.read().decode("utf-8", "replace")

    def left(self) -> list[str]:
        """Return the processes that still run in the folder, or know it."""
        found = []
        for entry in Path("/proc").glob("[0-9]*"):
            with suppress(OSError, IndexError):
                state = (entry / "stat").read_text(errors="replace").rsplit(")", 1)[1].split()[0]
                known = (entry / "environ").read_bytes() + (entry / "cmdline").read_bytes()
                if state not in "ZX" and int(entry.name) != os.getpid() and str(self.folder).encode() in known:
                    found.append(f"{entry.name} {(entry / 'cmdline').read_bytes()[:80]!r}")
        return found

    def gone(self) -> bool:
        """Whether none of them is left, soon."""
        stop = time.monotonic() + 3
        while self.left():
            if time.monotonic() > stop:
                return False
            time.sleep(0.02)
        return True

    def judge(self) -> list[str]:
        """Run it and return all that is wrong."""
        begun = time.monotonic()
        if self.kind == "inspected":
            words = ["inspect", "--study", "bystander.toml", "--only", "ill", "--trials", "2", "--no-counts"]
        else:
            words = ["observe", "--quiet"]
        code, said = self.run(*words)
        took = time.monotonic() - begun
        if not self.gone():
            self.wrong.append(f"it left {self.left()}")
        # Rehearsed once, and each of two blocks up to three times where it is disturbed.
        if took > _START_S + 7 * (LIMIT_S + 1):
            self.wrong.append(f"it took {took:.1f} s")
        if "Traceback" in said:
            self.wrong.append(said)
        if self.name in FATAL:
            self._resumed()
        elif (self.kind != "inspected" and code != 0) or (self.kind == "inspected" and code not in (0, 1)):
            self.wrong.append(f"it ended with {code}: {said}")
        if self.kind != "inspected":
            self._kept()
        if scratch := [path.name for path in (self.folder / "tmp").glob("bystander-*") if self.name not in FATAL]:
            self.wrong.append(f"scratch is left: {scratch}")
        return self.wrong

    def _resumed(self) -> None:
        """What was begun goes on, with a program in the place of the one that ended everything."""
        code, said = self.run("records", "list")
        if code or "Traceback" in said:
            self.wrong.append(f"records cannot be listed: {said}")

    def _kept(self) -> None:
        """All trials of the workload that behaves well went well, and those of the other ended at their limit."""
        from bystander.archive import Archive
        from bystander.design import Status
        from bystander.errors import BystanderError

        try:
            with Archive(self.folder / ".bystander" / "archive.sqlite") as archive:
                record = archive.load()
        except BystanderError as error:
            if self.name not in FATAL:
                self.wrong.append(f"the record cannot be read: {error}")
            return
        trials = record.trials
        well = trials.status[trials.workload == 1]
        if not (well == Status.OK).all() or (len(well) < 2 and self.name not in FATAL):
            self.wrong.append(f"the workload that behaves well has trials {well.tolist()}")
        elapsed = record.column("elapsed")[trials.workload == 0]
        if (elapsed[elapsed == elapsed] > LIMIT_S + 1).any():
            self.wrong.append(f"trials lasted {elapsed.tolist()}")


def attack(
    name: str, kind: str, folder: Path, user: int | None = None, program: Path = PROGRAM, loaded: Program | None = None
) -> list[str]:
    """Return what is wrong with how Bystander bears one of them, as sentences."""
    before = resource.getrlimit(resource.RLIMIT_CORE)
    resource.setrlimit(resource.RLIMIT_CORE, (0, before[1]))
    try:
        return Attack(name, kind, folder, user, program, loaded).judge()
    finally:
        resource.setrlimit(resource.RLIMIT_CORE, before)


def program_for(user: int | None, folder: Path) -> Path:
    """Return the installed program where a user may run it; where it lies in root's home, another is installed."""
    try:
        subprocess.run([str(PROGRAM), "--version"], user=user, capture_output=True, check=True)
        return PROGRAM
    except PermissionError:
        pass
    folder.chmod(0o755)
    root = Path(__file__).parents[1]
    subprocess.run(["/usr/bin/python3", "-m", "venv", str(folder / "venv")], check=True)
    pip = [str(folder / "venv" / "bin" / "python"), "-m", "pip", "install", "--quiet"]
    subprocess.run([*pip, "--require-hashes", "--requirement", str(root / "requirements.lock")], check=True)
    subprocess.run([*pip, "--no-deps", "--no-build-isolation", "--no-index", str(root)], check=True)
    return folder / "venv" / "bin" / "bystander"


def main(names: list[str]) -> int:
    """Run all of them, or those that are named; print what is wrong, and figures at the end."""
    with tempfile.TemporaryDirectory(prefix="hostile-program-") as place:
        users: list[int | None] = [None, 65534] if os.geteuid() == 0 else [None]
        return _all(names, {user: program_for(user, Path(place)) for user in users})


def _all(names: list[str], programs: Mapping[int | None, Path]) -> int:
    wrong = ran = 0
    for user, program in programs.items():
        for kind in KINDS:
            for name in names or NAMES:
                with tempfile.TemporaryDirectory(prefix="hostile-", ignore_cleanup_errors=True) as place:
                    begun = time.monotonic()
                    problems = attack(name, kind, Path(place).resolve(), user, program)
                    ran += 1
                    wrong += bool(problems)
                    who = "root" if user is None and os.geteuid() == 0 else "a user"
                    print(f"{name}, {kind}, {who}: {time.monotonic() - begun:.1f} s", *problems, sep="\n  ", flush=True)
    print(f"{len(names or NAMES)} ill-behaved programs, {ran} runs, {wrong} with something wrong")
    return int(wrong > 0)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
