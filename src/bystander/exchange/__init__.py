"""Open formats in and out: CSV of readings, JSON of verdicts, records, blocks, checks and levels; marks and spans."""

from bystander.exchange.block_json import BLOCK_FORMAT, SentBlock, block_json, misfit, read_block_json
from bystander.exchange.check_json import check_json
from bystander.exchange.decisions.bisect_out import bisect_json
from bystander.exchange.decisions.junit import junit_xml
from bystander.exchange.decisions.ladder_out import LADDER_HEAD, ladder_csv, ladder_frame, ladder_json
from bystander.exchange.decisions.openmetrics import openmetrics_text
from bystander.exchange.decisions.rows_csv import ROWS_HEAD, rows_csv
from bystander.exchange.marks import Spans, read_marks
from bystander.exchange.places import accounts_csv, accounts_json, paths_csv, places_json
from bystander.exchange.readings.frame import readings_frame, readings_parquet
from bystander.exchange.readings.other_tables import OtherTable, TableColumns, long_form
from bystander.exchange.readings.readings_in import USUAL_REFERENCES, Imported, read_readings_csv
from bystander.exchange.readings.readings_out import readings_csv, record_arrays
from bystander.exchange.record_json import json_document, read_record_json, record_json
from bystander.exchange.records_json import archive_size_json, levels_json, record_shown_json, records_listed_json
from bystander.exchange.sarif import leads_sarif
from bystander.exchange.settled import (
    SETTLED_FILE,
    allowed_text,
    read_allowed,
    read_settled,
    read_settled_links,
    read_settled_places,
    settled_link_text,
    settled_place_text,
    settled_text,
)
from bystander.exchange.spans import read_spans, spans_json
from bystander.exchange.verdicts import verdicts_json
from bystander.exchange.within import within_json
from bystander.exchange.written.toml_text import toml_key, toml_value

__all__ = [
    "BLOCK_FORMAT",
    "LADDER_HEAD",
    "ROWS_HEAD",
    "SETTLED_FILE",
    "USUAL_REFERENCES",
    "Imported",
    "OtherTable",
    "SentBlock",
    "Spans",
    "TableColumns",
    "accounts_csv",
    "accounts_json",
    "allowed_text",
    "archive_size_json",
    "bisect_json",
    "block_json",
    "check_json",
    "json_document",
    "junit_xml",
    "ladder_csv",
    "ladder_frame",
    "ladder_json",
    "leads_sarif",
    "levels_json",
    "long_form",
    "misfit",
    "openmetrics_text",
    "paths_csv",
    "places_json",
    "read_allowed",
    "read_block_json",
    "read_marks",
    "read_readings_csv",
    "read_record_json",
    "read_settled",
    "read_settled_links",
    "read_settled_places",
    "read_spans",
    "readings_csv",
    "readings_frame",
    "readings_parquet",
    "record_arrays",
    "record_json",
    "record_shown_json",
    "records_listed_json",
    "rows_csv",
    "settled_link_text",
    "settled_place_text",
    "settled_text",
    "spans_json",
    "toml_key",
    "toml_value",
    "verdicts_json",
    "within_json",
]
