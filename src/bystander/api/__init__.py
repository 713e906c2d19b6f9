"""Bystander as a library: read a study or a record, decide it, and write what came of it.

Nothing here runs a workload or writes an archive. From version 0.1 on, names in `__all__`, their arguments and the
columns of frames stay; new ones may come. Errors are `BystanderError`: a sentence each, as the program says it.

>>> from bystander import api
>>> record = api.read_record("harbour-office-1")
>>> decision = api.decide(record)
>>> [row.workload for row in decision.rows if row.verdict == "slower"]
"""

from __future__ import annotations

from bystander.api.decided import Decision, Row, decide, render
from bystander.api.onward import Ladder, Search, read_ladder, read_search
from bystander.api.records import Record, Study, read_record, read_record_file, read_study, record_names
from bystander.errors import BystanderError

__all__ = [
    "BystanderError",
    "Decision",
    "Ladder",
    "Record",
    "Row",
    "Search",
    "Study",
    "decide",
    "read_ladder",
    "read_record",
    "read_record_file",
    "read_search",
    "read_study",
    "record_names",
    "render",
]
