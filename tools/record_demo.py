"""Record the demo anew: observe the harbour office here, and keep it under an invented machine.

usage: python tools/record_demo.py           (writes src/bystander/demo/harbour/recorded.json)
       python tools/record_demo.py history   (writes chain.json, pieces.json and search.json beside the history)
"""

from __future__ import annotations

import json
import os
import sys
import tempfile
from pathlib import Path
from typing import Any

from bystander.demo import FILES
from bystander.exchange import record_json
from bystander.flow.chains.ladders import chain_ladder
from bystander.flow.commands.demo import demo_archive, lay_out, lay_out_history, lumped
from bystander.flow.commands.observe import observe
from bystander.flow.commands.records import whole_record
from bystander.flow.inside.asked import Asked
from bystander.flow.inside.changed import inspect_changed
from bystander.flow.observer import Silent
from bystander.flow.onward.asked import AskedBisect, AskedChain, GoOn
from bystander.flow.onward.bisect import bisect
from bystander.flow.onward.chain import chain_study, gone_on, observe_chain
from bystander.flow.places import load_study

ROOT = Path(__file__).resolve().parents[1]
HOME = "/home/office"
_CHANGE = 0.2  # what the demo asks its chain for
MACHINE = {
    "host": "harbour-desk",
    "system": "Lantern Linux 4",
    "architecture": "x86_64",
    "processor": "Tern T2",
    "cores": 2,
    "memory_bytes": 8 * 2**30,
    "memory_free_bytes": 5 * 2**30,
    "load": 0.31,
}


def main() -> None:
    """Observe, disguise, write: the demo, or its longer history."""
    with tempfile.TemporaryDirectory() as scratch:
        if sys.argv[1:] == ["history"]:
            _history(Path(scratch, "harbour-office"))
        else:
            _office(Path(scratch, "harbour-office"))


def _office(folder: Path) -> None:
    study, place = load_study(lay_out(folder), folder)
    archive = demo_archive(folder / "bystander.toml")
    observed = observe(study, place, archive, os.environ, Silent())
    asked = Asked(tick_s=0.001, counts=True)
    inspect_changed(archive, observed.record, os.environ, Silent(), ("gauge", "chart"), asked)
    _write(archive, observed.record, folder, FILES / "recorded.json", 1)


def _history(folder: Path) -> None:
    study, place = load_study(lay_out_history(folder), folder)
    archive = demo_archive(folder / "bystander.toml")
    asked = AskedChain(change=_CHANGE)
    meant = chain_study(study, place, "start..main", asked, archive)
    chain = observe_chain(meant, place, archive, os.environ, Silent(), asked)
    link = lumped(chain_ladder(archive, chain.record))
    way = GoOn(hunks=link)
    apart = gone_on(archive, chain.record, way, AskedChain(only=("day",), change=_CHANGE), os.environ, Silent())
    search = bisect(study, place, archive, os.environ, Silent(), "start..main", AskedBisect(only=("gauge",)))
    _write(archive, chain.record, folder, FILES / "history" / "chain.json", 2)
    _write(archive, apart.record, folder, FILES / "history" / "pieces.json", 3)
    _write(archive, search, folder, FILES / "history" / "search.json", 4)


def _write(archive: Path, record: str, folder: Path, file: Path, number: int) -> None:
    """Write a record under an invented machine and user."""
    document = json.loads(record_json(whole_record(archive, record, payloads=True)))
    document = replaced(
        document,
        {
            str(folder): f"{HOME}/harbour-office",
            sys.executable: "/usr/bin/python3",
            sys.prefix: "/usr",
            sys.base_prefix: "/usr",
            str(ROOT / "src"): "/opt/bystander",
        },
    )
    document |= {
        "machine": MACHINE,
        "machines": [MACHINE] * len(document["machines"]),
        "uuid": f"5eaf00d5-0000-4000-8000-{number:012d}",
    }
    for arm in document["arms"]:
        arm["facts"]["environment"] = {"PATH": "/usr/bin:/bin", "HOME": HOME, "PYTHONHASHSEED": "0"}
        arm["facts"]["interpreter"] |= {"path": "/usr/bin/python3", "program": "/usr/bin/python3"}
    lines = [f'"{key}": {json.dumps(value, ensure_ascii=False)}' for key, value in document.items()]
    file.write_text("{\n" + ",\n".join(lines) + "\n}\n", encoding="utf-8")


def replaced(value: Any, words: dict[str, str]) -> Any:
    """Return a document with words replaced in all of its texts."""
    if isinstance(value, str):
        for old, new in words.items():
            value = value.replace(old, new)
        return value
    if isinstance(value, list):
        return [replaced(item, words) for item in value]
    if isinstance(value, dict):
        return {key: replaced(item, words) for key, item in value.items()}
    return value


if __name__ == "__main__":
    main()
