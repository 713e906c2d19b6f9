"""Open formats in and out: CSV of readings, JSON of verdicts and of whole records."""

from bystander.exchange.marks import Spans, read_marks
from bystander.exchange.readings_in import Imported, read_readings_csv
from bystander.exchange.readings_out import readings_csv, record_arrays
from bystander.exchange.record_json import read_record_json, record_json
from bystander.exchange.spans import read_spans, spans_json
from bystander.exchange.verdicts import verdicts_json

__all__ = [
    "Imported",
    "Spans",
    "read_marks",
    "read_readings_csv",
    "read_record_json",
    "read_spans",
    "readings_csv",
    "record_arrays",
    "record_json",
    "spans_json",
    "verdicts_json",
]
