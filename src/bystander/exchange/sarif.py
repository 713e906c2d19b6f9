"""Leads as SARIF 2.1.0 (OASIS 2020): one result a lead, at file and line of the candidate, for a review's own view."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any
from urllib.parse import quote

from bystander import __version__
from bystander.design import Account, Lead, lead_brief, lead_label, lead_sentence, place_key, try_sentence
from bystander.exchange.written.json_text import json_text
from bystander.units import capital

__all__ = ["leads_sarif"]

_RULES = (
    ("slower-place", "A place whose time is shown to have grown"),
    ("faster-place", "A place whose time is shown to have shrunk"),
    ("calls-changed", "A place that is called more or less often"),
    ("share-beyond-expected", "A place that is shown to take a larger share of the whole than the study expected"),
)
_ROOT = "SRCROOT"  # where the files of the candidate lie: who reads it knows


def leads_sarif(accounts: Sequence[Account]) -> str:
    """Return the document; leads that were settled are suppressed, with the reason."""
    driver = {
        "name": "Bystander", "version": __version__,
        "rules": [{"id": name, "shortDescription": {"text": text}} for name, text in _RULES],
    }  # fmt: skip
    run = {
        "tool": {"driver": driver}, "columnKind": "unicodeCodePoints",
        "results": [one for account in accounts for one in _results(account)],
    }  # fmt: skip
    document = {"$schema": "https://json.schemastore.org/sarif-2.1.0.json", "version": "2.1.0", "runs": [run]}
    return json_text(document, indent=1)


def _results(account: Account) -> Iterator[dict[str, Any]]:
    for at, lead in enumerate(account.leads):
        worse = (lead.calls_after or 0) > (lead.calls_before or 0) if lead.by_count else lead.seconds.change_s > 0
        worse = worse or lead.by_surprise
        rule = 3 if lead.by_surprise else 2 if lead.by_count else 0 if worse else 1
        advice = try_sentence(account) if at == 0 else ""
        surprise = f"a surprise: {lead.surprise}" if lead.surprise and not lead.by_surprise else ""
        sentences = [f"{account.workload}: {lead_brief(lead)}.", _ended(lead_sentence(lead)), _ended(surprise), advice]
        result: dict[str, Any] = {
            "ruleId": _RULES[rule][0], "ruleIndex": rule, "level": "warning" if worse else "note",
            "message": {"text": " ".join(text for text in sentences if text)},
            "partialFingerprints": {"bystanderPlace/v1": "/".join((account.workload, *_key(lead, account)))},
            "properties": _properties(lead, account),
        }  # fmt: skip
        if location := _location(lead, account):
            result["locations"] = [location]
        if lead.settled:
            result["suppressions"] = [{"kind": "external", "justification": lead.fate}]
        yield result


def _ended(text: str) -> str:
    return f"{capital(text)}." if text else ""


def _key(lead: Lead, account: Account) -> tuple[str, str]:
    return place_key(lead.place, account.roots)


def _location(lead: Lead, account: Account) -> dict[str, Any] | None:
    """Return file and line of a place inside the arm; None for what lies elsewhere, which a review does not show."""
    _, file = _key(lead, account)
    if (
        not file
        or file.startswith(("/", "<", ".."))
        or not any(lead.place.file.startswith(root.rstrip("/") + "/") for root in account.roots if root)
    ):
        return None
    artifact = {"uri": quote(file, errors="replace"), "uriBaseId": _ROOT}
    line = lead.line or lead.place.line
    return {"physicalLocation": {"artifactLocation": artifact, **({"region": {"startLine": line}} if line > 0 else {})}}


def _properties(lead: Lead, account: Account) -> dict[str, Any]:
    found: dict[str, Any] = {
        "workload": account.workload, "against": account.against, "arm": account.arm, "inspection": account.run,
        "place": lead_label(lead),
    }  # fmt: skip
    if lead.timed is not None:
        found |= {"before_s": lead.seconds.before_s, "after_s": lead.seconds.after_s, "change_s": lead.seconds.change_s}
    if lead.calls_after is not None:
        found |= {"calls_before": lead.calls_before, "calls_after": lead.calls_after}
    return found
