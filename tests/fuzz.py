"""Whatever a file holds, it is read or told in one sentence: quickly, in bounded memory, and never with a traceback.

Valid files of every kind are mutated by Hypothesis, with a seed, and read through the public functions; some are given
to the program. `make fuzz` runs it for long, the tests for some seconds.
"""

from __future__ import annotations

import io
import json
import os
import random
import resource
import shutil
import signal
import sqlite3
import sys
import tempfile
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import closing, contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path
from types import FrameType

from hypothesis import HealthCheck, Phase, given, seed, settings
from hypothesis import strategies as st
from program import Program

from bystander.archive import Archive
from bystander.archive.mend import mend
from bystander.errors import BystanderError, UsageError
from bystander.evidence import content_of, kind_named, reduced
from bystander.exchange import (
    json_document,
    read_block_json,
    read_marks,
    read_readings_csv,
    read_record_json,
    read_spans,
    record_json,
    verdicts_json,
)
from bystander.exchange.marks import Spans
from bystander.field import read_closely, read_counts
from bystander.flow.commands.observe import World, observe
from bystander.flow.commands.report import FORMATS, Asked
from bystander.flow.leads.shown import Wanted, leads, leads_json
from bystander.flow.observer import Silent
from bystander.flow.places import load_study
from bystander.flow.records.imports import ImportOptions, import_files
from bystander.flow.records.told import told_accounts
from bystander.verdicts import decide

HERE = Path(__file__).parent
PROGRAM = Path(sys.executable).with_name("bystander")
MOST_S, MOST_BYTES = 10.0, 2**30
# What people, disks and adversaries put in the place of a value.
_VALUES = (
    b"0", b"-1", b"1e999", b"-1e308", b"NaN", b"Infinity", b"9" * 400, b"9" * 5000, b"9223372036854775808", b"null",
    b"true", b'""', b"[]", b"{}", b'"\\ud800"', b'"\\u0000"', b"\xff\xfe", b"\x00", b"'", b'"', b"\n", b"\t", b"=1+1",
    b"\x1b[31m", b"[" * 5000, b'{"a":' * 2000, b"\xe2\x80\xae", b"../../../etc/passwd", b"0.1.2", b"1_000", b"[[[",
    b"]]", b"}", b",,,,",
)  # fmt: skip


class TooLongError(Exception):
    """An answer took longer than it may."""


@contextmanager
def within(seconds: float) -> Iterator[None]:
    """Raise TooLongError in the middle of what takes longer."""

    def late(_number: int, _frame: FrameType | None) -> None:
        raise TooLongError(f"no answer within {seconds:g} s")

    before = signal.signal(signal.SIGALRM, late)
    signal.setitimer(signal.ITIMER_REAL, seconds)
    try:
        yield
    finally:
        signal.setitimer(signal.ITIMER_REAL, 0)
        signal.signal(signal.SIGALRM, before)


@st.composite
def mutated(draw: st.DrawFn, kept: tuple[bytes, ...]) -> bytes:
    """Return one of some valid files with a few changes: bits, cuts, doubled stretches, and values out of place."""
    data = bytearray(draw(st.sampled_from(kept)))
    for _ in range(draw(st.integers(1, 4))):
        if not data:
            break
        at = draw(st.integers(0, len(data) - 1))
        length = draw(st.sampled_from((1, 2, 4, 8, 30, 200)))
        change = draw(st.integers(0, 6))
        if change == 0:
            data[at] ^= 1 << draw(st.integers(0, 7))
        elif change == 1:
            del data[at : at + length]
        elif change == 2:
            data[at:at] = data[at : at + length] * draw(st.integers(1, 4))
        elif change == 3:
            data[at : at + length] = draw(st.binary(min_size=length, max_size=length))
        elif change == 4:
            data[at:at] = draw(st.sampled_from(_VALUES))
        elif change == 5:
            del data[at:]
        else:
            _value_replaced(data, at, draw(st.sampled_from(_VALUES)))
    return bytes(data)


def _value_replaced(data: bytearray, at: int, value: bytes) -> None:
    """Put a value in the place of the number or word around a position."""
    first = last = at
    inside = b"0123456789abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ_.-+"
    while first > 0 and data[first - 1] in inside:
        first -= 1
    while last < len(data) and data[last] in inside:
        last += 1
    data[first:last] = value


@dataclass
class Target:
    """One kind of file: valid ones, and what reads them."""

    name: str
    kept: tuple[bytes, ...]
    read: Callable[[bytes, Path], None]
    share: int = 1
    wrong: list[str] = field(default_factory=list)
    runs: int = 0

    def run(self, examples: int, drawn: int, folder: Path) -> None:
        """Read so many mutated files."""

        @seed(drawn)
        @settings(max_examples=examples, deadline=None, database=None, phases=[Phase.generate],
                  suppress_health_check=list(HealthCheck))  # fmt: skip
        @given(mutated(self.kept))
        def one(data: bytes) -> None:
            self.runs += 1
            begun = time.monotonic()
            try:
                with within(MOST_S):
                    self.read(data, folder)
            except BystanderError:
                pass
            except Exception as error:
                keep = Path(tempfile.gettempdir()) / f"fuzz-{self.name}-{len(self.wrong)}"
                keep.write_bytes(data)
                self.wrong.append(f"{self.name}: {type(error).__name__}: {str(error)[:200]} ({keep})")
            peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024
            if peak > MOST_BYTES:
                self.wrong.append(f"{self.name}: it took {peak / 2**20:.0f} MiB")
            if time.monotonic() - begun > MOST_S:
                self.wrong.append(f"{self.name}: it took {time.monotonic() - begun:.1f} s")

        one()


def _study(data: bytes, folder: Path) -> None:
    file = folder / "bystander.toml"
    file.write_bytes(data)
    load_study(file, folder)


def _record(data: bytes, _folder: Path) -> None:
    record = read_record_json(data.decode("utf-8", "replace"), "fuzz.json")
    _written(record)


def _written(record: object) -> None:
    """Decide a record and write it again: what was let in can be shown."""
    decided = decide(record)  # type: ignore[arg-type]
    for suffix, form in FORMATS.items():
        with suppress(UsageError):  # there is nothing that a picture could show
            if suffix not in (".png", ".pdf"):
                form(Asked(decided))
    verdicts_json(decided)
    record_json(record)  # type: ignore[arg-type]


def _block(data: bytes, _folder: Path) -> None:
    read_block_json(json_document(data.decode("utf-8", "replace"), "fuzz.json"), "fuzz.json")


def _csv(data: bytes, _folder: Path) -> None:
    read_readings_csv(data, "fuzz.csv")


def _marks(data: bytes, _folder: Path) -> None:
    reduced(read_marks(data, 10**9, 10**9, 10**18), whole=True)


def _spans(data: bytes, _folder: Path) -> None:
    spans = Spans()
    read_spans(data.decode("utf-8", "replace"), spans, 10**18)
    reduced(read_marks(b"", 10**9, 10**9, 10**18, spans), whole=True)


def _archive(data: bytes, folder: Path) -> None:
    file = folder / "fuzz.sqlite"
    for path in folder.glob("fuzz.sqlite*"):
        shutil.rmtree(path) if path.is_dir() else path.unlink()
    file.write_bytes(data)
    try:
        with Archive(file) as archive:
            heads = archive.heads()
            if not heads and len(data) > 8192:
                raise AssertionError("a damaged archive is said to hold no records")
            for head in heads:
                record = archive.load(head.uuid, payloads=True)
                for packets in record.evidence.values():
                    for packet in packets:
                        _content(packet)
                decide(record)
    finally:
        target = folder / "mended.sqlite"
        for path in folder.glob("mended.sqlite*"):
            path.unlink()
        mend(file, target)


def _content(packet: object) -> None:
    with suppress(ValueError):
        content_of(packet)  # type: ignore[arg-type]


def _inspected(data: bytes, folder: Path) -> None:
    """Read the inspections of an archive, of both states and of one, as `leads` does."""
    file = folder / "fuzz.sqlite"
    for path in folder.glob("fuzz.sqlite*"):
        shutil.rmtree(path) if path.is_dir() else path.unlink()
    file.write_bytes(data)
    for wanted in (Wanted(), Wanted(arm="after")):
        with suppress(BystanderError):
            leads_json(leads(file, None, wanted))
    with Archive(file) as archive:
        told_accounts(file, archive.head())


def _unpacks(kind: str) -> Callable[[bytes, Path], None]:
    found = kind_named(kind)
    assert found

    def read(data: bytes, _folder: Path) -> None:
        # What the boundary around it tells as damage.
        with suppress(ValueError, KeyError, TypeError, IndexError, OverflowError, RecursionError):
            found.table(found.unpack(data, found.version))

    return read


def _counts(data: bytes, folder: Path) -> None:
    into = folder / "hooks"
    shutil.rmtree(into, ignore_errors=True)
    into.mkdir()
    (into / "1.begun").touch()
    (into / "1.json").write_bytes(data)
    read_counts(into)


def _closely(data: bytes, folder: Path) -> None:
    into = folder / "hooks"
    shutil.rmtree(into, ignore_errors=True)
    into.mkdir()
    (into / "1.begun").touch()
    (into / "1.json").write_bytes(data)
    read_closely(into, arguments=True)


STUDY = """
name = "fuzzed"
blocks = 3
seed = 7
stopping = "fixed"
[arms.before]
folder = "."
settings.word = "ebb"
[arms.after]
folder = "."
settings.word = "flood"
environment.TZ = "UTC"
[workloads.tide]
command = "python3 tide.py {word} {port}"
inputs.port = ["north", "south"]
answer = { of = "output", mask = ["[0-9]+"], tolerance = "1 %" }
limit = "30 s"
weight = 3
[gate]
stop = ["slower", "failed"]
"""
PROGRAM_TEXT = """
import os, sys, time
now = time.monotonic_ns()
with open(os.environ.get("BYSTANDER_MARKS", "/dev/null"), "a") as marks:
    marks.write("".join("phase\\t%d\\t%d\\tcrest\\tberth %d\\t1\\t1\\n" % (now + i, i, i) for i in range(9)))
    marks.write("items\\tships\\t9\\nreading\\tdepth\\t3\\tm\\tmore\\ninterval\\tanswer\\t0.2\\n")
print(sys.argv[1], 12)
"""
CSV = "workload,arm,block,order,measure,value,unit,status,start\n" + "".join(
    f"tide,{arm},{block},{order},elapsed,{1.0 + block / 100 + order / 50},s,ok,{1.6e9 + block}\n"
    for block in range(9) for order, arm in enumerate(("before", "after"))
)  # fmt: skip
MARKS = (
    "phase\t2000000\t300\tcrest\tberth 1\t7\t8\t120\t5\t0\nbegin\t2000100\tebb\nend\t2000150\tebb\n"
    "phases\tflood\t\t7\t8\tAAAAAAAAAAABAAAAAAAAAP//////////\nthread\t7\t8\tpilot\nitems\tships\t4\n"
    "reading\tdepth\t3.5\tms\tless\ninterval\tanswer\t0.01\ndeadline\tanswer\t0.02\ncost\t7\t300\n"
)
SPANS = json.dumps({
    "resourceSpans": [{
        "resource": {"attributes": [{"key": "process.pid", "value": {"intValue": "7"}}]},
        "scopeSpans": [{"spans": [
            {"name": name, "spanId": name, "parentSpanId": around, "startTimeUnixNano": "1000000001000000000",
             "endTimeUnixNano": "1000000001500000000",
             "attributes": [{"key": "thread.id", "value": {"intValue": "3"}}, {"key": "label", "value": {"x": "a"}}]}
            for name, around in (("a", ""), ("b", "a"), ("c", "b"))
        ]}],
    }]
})  # fmt: skip
CLOSELY = json.dumps({
    "version": 1, "python": "3.11.7", "problems": [],
    "places": [{
        "name": "Quay.fit", "file": "/office/quay.py", "line": 3, "calls": 7, "resumed": 0, "lines": [[4, 7], [5, 21]],
        "distinct": {"00ff": 4, "ff00": 3}, "more": False, "parameters": [["ship", ["00ff"], ["Ship"], False]],
    }],
})  # fmt: skip
COUNTS = json.dumps({
    "version": 1, "problems": [], "places": [["python", "tide.f", "/x/tide.py", 3], ["built-in", "len", "", 0]],
    "edges": [[-1, 0, 0, 1, 0, 0], [0, 4, 1, 9, 0, 0]],
})  # fmt: skip


def made_files(folder: Path) -> Mapping[str, bytes]:
    """Observe a small study and return an archive, a record, a block and packets of evidence as bytes."""
    from test_runs import begun, sent

    (folder / "bystander.toml").write_text(STUDY, encoding="utf-8")
    (folder / "tide.py").write_text(PROGRAM_TEXT, encoding="utf-8")
    study, home = load_study(None, folder)
    observed = observe(study, home, folder / "a.sqlite", os.environ, Silent(), world=World())
    with closing(sqlite3.connect(folder / "a.sqlite")) as connection:
        connection.execute("PRAGMA journal_mode = DELETE")
        connection.execute("VACUUM")
    with Archive(folder / "a.sqlite") as archive:
        record = archive.load(observed.record, payloads=True)
    packets = next(iter(record.evidence.values()))
    found = {"archive": (folder / "a.sqlite").read_bytes(), "record": record_json(record).encode()}
    for packet in packets:
        kind = kind_named(packet.kind)
        assert kind
        found[packet.kind] = kind.pack(content_of(packet))
    demo = Path(load_study.__code__.co_filename).parents[1] / "demo" / "harbour"
    import_files([str(demo / "recorded.json")], io.BytesIO(), folder / "demo.sqlite", ImportOptions())
    with closing(sqlite3.connect(folder / "demo.sqlite")) as connection:
        connection.execute("PRAGMA journal_mode = DELETE")
    found["inspected"] = (folder / "demo.sqlite").read_bytes()
    found["block"] = sent(begun(folder / "b.sqlite", 6), 1).encode()
    return found


def targets(folder: Path) -> list[Target]:
    """Return all kinds of files with valid ones of each."""
    made = made_files(folder)
    demo = Path(load_study.__code__.co_filename).parents[1] / "demo" / "harbour" / "bystander.toml"
    return [
        Target("study", (STUDY.encode(), demo.read_bytes()), _study, 16),
        Target("csv", (CSV.encode(),), _csv, 12),
        Target("record", (made["record"],), _record, 12),
        Target("block", (made["block"],), _block, 8),
        Target("archive", (made["archive"],), _archive, 12),
        Target("marks", (MARKS.encode(),), _marks, 8),
        Target("spans", (SPANS.encode(),), _spans, 4),
        Target("counts", (COUNTS.encode(),), _counts, 4),
        Target("closely", (CLOSELY.encode(),), _closely, 4),
        Target("timeline", (made["timeline"],), _unpacks("timeline"), 4),
        Target("inspected", (made["inspected"],), _inspected, 1),
    ]


_COMMANDS: tuple[tuple[str, tuple[str, ...]], ...] = (
    ("archive", ("records", "list", "--archive", "FILE")), ("archive", ("decide", "--archive", "FILE")),
    ("archive", ("decide", "--json", "--archive", "FILE")), ("archive", ("records", "show", "--archive", "FILE")),
    ("archive", ("report", "--to", "r.html", "--archive", "FILE")), ("archive", ("leads", "--archive", "FILE")),
    ("archive", ("records", "size", "--archive", "FILE")),
    ("archive", ("records", "mend", "--to", "m", "--archive", "FILE")),
    ("record", ("records", "import", "FILE.json", "--archive", "new.sqlite")),
    ("csv", ("records", "import", "FILE.csv", "--archive", "new.sqlite")),
    ("block", ("records", "import", "FILE.json", "--archive", "new.sqlite")),
    ("study", ("check", "FILE", "--no-run")),
    ("inspected", ("leads", "--archive", "FILE")),
    ("inspected", ("report", "--to", "r.html", "--archive", "FILE")),
)  # fmt: skip


def through_the_program(
    kept: Mapping[str, tuple[bytes, ...]], runs: int, drawn: int, folder: Path, loaded: Program | None
) -> list[str]:
    """Give so many mutated files to commands of the program; return what was wrong."""
    program, wrong, draw = loaded or Program(), [], random.Random(drawn)
    examples: list[bytes] = []

    def gather(kind: str) -> None:
        @seed(drawn)
        @settings(max_examples=runs // len(kept) + 1, deadline=None, database=None, phases=[Phase.generate],
                  suppress_health_check=list(HealthCheck))  # fmt: skip
        @given(mutated(kept[kind]))
        def one(data: bytes) -> None:
            examples.append(kind.encode() + b"\0" + data)

        one()

    for kind in kept:
        gather(kind)
    try:
        for example in draw.sample(examples, min(runs, len(examples))):
            of_kind, _, data = example.partition(b"\0")
            words = draw.choice([words for of, words in _COMMANDS if of == of_kind.decode()])
            place = Path(tempfile.mkdtemp(dir=folder))
            for name in ("FILE", "FILE.json", "FILE.csv"):
                (place / name).write_bytes(data)
            environment = {
                **os.environ,
                "BYSTANDER_LOCK": str(place / "lock"),
                "NO_COLOR": "1",
                "BYSTANDER_TRACEBACK": "1",
            }
            try:
                done = program.run(words, place, environment, 3 * MOST_S)
            except TimeoutError:
                wrong.append(f"{words}: no answer ({place})")
                continue
            if "Traceback" in done.stderr or ("no record yet" in done.stderr + done.stdout and len(data) > 8192):
                wrong.append(f"{words}: {done.stderr[-600:]} ({place})")
            elif done.returncode not in (0, 1, 2, 3):
                wrong.append(f"{words}: exit code {done.returncode} ({place})")
            else:
                shutil.rmtree(place)
    finally:
        if loaded is None:
            program.close()
    return wrong


def campaign(
    examples: int, runs: int, drawn: int, only: str = "", loaded: Program | None = None
) -> tuple[dict[str, int], list[str]]:
    """Mutate so many files, and give so many to the program; return how many of each kind, and what was wrong."""
    wrong: list[str] = []
    counts: dict[str, int] = {}
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place).resolve()
        os.environ["BYSTANDER_LOCK"] = str(folder / "lock")
        kinds = [target for target in targets(folder) if only in ("", target.name)]
        shares = sum(target.share for target in kinds)
        for target in kinds:
            begun = time.monotonic()
            target.run(max(1, examples * target.share // shares), drawn, folder)
            counts[target.name] = target.runs
            wrong += target.wrong
            if examples > 1000:
                told = f"{target.name}: {target.runs} files, {time.monotonic() - begun:.0f} s"
                print(told, f"wrong: {len(target.wrong)}", *target.wrong[:10], sep="\n  ", flush=True)
        if runs:
            kept = {target.name: target.kept for target in kinds if target.name in {of for of, _ in _COMMANDS}}
            found = through_the_program(kept, runs, drawn, folder, loaded)
            counts["through the program"] = runs
            wrong += found
            print(*found, sep="\n")
    return counts, wrong


if __name__ == "__main__":
    sys.path.insert(0, str(HERE))
    asked = dict(word.split("=") for word in sys.argv[1:])
    told, faults = campaign(
        int(asked.get("files", 20_000)), int(asked.get("runs", 500)), int(asked.get("seed", 1)), asked.get("only", "")
    )
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(f"{sum(told.values())} files and runs, peak {peak:.0f} MiB, {len(faults)} with something wrong")
    sys.exit(bool(faults))
