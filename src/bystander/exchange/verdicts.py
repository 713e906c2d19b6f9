"""A decision as one JSON document; its schema is docs/verdicts.schema.json."""

from __future__ import annotations

import math
from dataclasses import asdict
from typing import Any

from bystander.design import AccountTold, Comparison
from bystander.exchange.written.json_text import json_text
from bystander.verdicts import (
    CONFIDENCE,
    ArmSide,
    CeilingRow,
    Decision,
    Distribution,
    GateFinding,
    Row,
    Scale,
    SettledRow,
    Since,
    Single,
    Whole,
)

__all__ = ["verdicts_json"]


def verdicts_json(decision: Decision, gate: GateFinding | None = None, told: Since | None = None) -> str:
    """Return the document, indented; numbers that are unbounded or undefined are null."""
    head = decision.head
    document = {
        "format": "bystander.verdicts",
        "version": 3,
        "record": head.name,
        "record_uuid": head.uuid,
        "started_wall_s": head.started_wall_s,
        "study": head.study.name,
        "complete": head.complete,
        "origin": head.origin,
        "reference": head.study.reference.name,
        "candidates": list(decision.candidates),
        "measure": decision.measure.name,
        "margin": decision.margin,
        "risk": decision.risk,
        "comparisons": decision.comparisons,
        "compared": [_compared(decision, comparison) for comparison in decision.head.study.comparisons],
        "seed": head.study.seed,
        "exploration": list(decision.exploration),
        "stopping": _stopping(decision),
        "notes": [{"code": note.code, "text": note.text} for note in decision.notes],
        "results": [_result(row) for row in decision.rows],
        "failures": [
            {
                "workload": failure.workload,
                "arm": failure.arm,
                "failed": failure.failed,
                "trials": failure.trials,
                "ways": [{"way": way, "trials": count} for way, count in failure.ways],
                "said": failure.said,
            }
            for failure in decision.failures
        ],
        "placebo": [_result(row) for row in decision.placebo],
        "tainted": decision.tainted,
        "arms_alone": [_alone(single) for single in decision.singles],
        "distributions": [_distribution(one) for one in decision.distributions],
        "trials_to_see": [asdict(one) for one in decision.to_see],
        "answers_apart": [
            {"workload": workload, **_compared(decision, comparison), "lines": list(lines)}
            for (workload, comparison), lines in decision.answers.items()
        ],
        "summary": decision.summary,
        "repeated": asdict(decision.repeated) if decision.repeated else None,
        "decided_on": decision.decided_on.isoformat() if decision.decided_on else None,
        "settled": [_settled(one) for one in decision.settled],
        "ceilings": [_ceiling(one) for one in decision.ceilings],
        "load": [_load(one) for one in decision.loads],
        "geometric_mean": [_whole(one) for one in decision.means],
        "gate": _gate(gate) if gate else None,
    }
    if told:
        document["since"] = _since(told)
    if decision.accounts:
        document["accounts"] = [_told(one) for one in decision.accounts.values()]
    return json_text(document, indent=2)


def _told(one: AccountTold) -> dict[str, Any]:
    """Return what an inspection of both arms told of a row."""
    return {
        "workload": one.workload, "against": one.against, "arm": one.arm, "inspection": one.run,
        "account": list(one.sentences), "leads": [lead.brief for lead in one.leads],
    }  # fmt: skip


def _since(told: Since) -> dict[str, Any]:
    """Return how rows stand beside those of an earlier record."""
    rows = []
    for row in told.rows:
        apart = row.apart
        rows.append({
            "workload": row.now.workload, "arm": row.now.arm, "change": row.change, "now": row.now.verdict,
            "then": None if row.then is None else row.then.verdict, "why_no_number": row.why,
            "ratio": None if apart is None else _number(math.exp(apart.estimate)),
            "interval": None if apart is None else [_exp(apart.low), _exp(apart.high)],
            "p": None if apart is None else _number(apart.p), "pairs": None if apart is None else apart.pairs,
        })  # fmt: skip
    return {"record": told.earlier.name, "record_uuid": told.earlier.uuid, "rows": rows}


def _exp(value: float) -> float | None:
    return math.exp(value) if abs(value) < 700 else None


def _compared(decision: Decision, comparison: Comparison) -> dict[str, str]:
    reference, candidate = decision.head.study.names(comparison)
    return {"reference": reference, "candidate": candidate}


def _number(value: float) -> float | None:
    return value if math.isfinite(value) else None


def _side(side: ArmSide) -> dict[str, Any]:
    return {
        "trials": side.trials,
        "failed": side.failed,
        "median": _number(side.median),
        "least": _number(side.least),
        "greatest": _number(side.greatest),
    }


def _result(row: Row) -> dict[str, Any]:
    ratio = row.scale == Scale.RATIO
    ends = [_number(row.low), _number(row.high)]
    if ratio and row.low <= 0:
        ends[0] = None
    return {
        "workload": row.workload,
        "arm": row.arm,
        "against": row.against,
        "measure": row.measure.name,
        "primary": row.primary,
        "unit": row.measure.unit,
        "pairing": row.pairing,
        "blocks": row.blocks,
        "stopped": row.stop.reason,
        "look": None if row.stop.look is None else row.stop.look + 1,
        "reference": _side(row.reference),
        "candidate": _side(row.candidate),
        "scale": row.scale,
        "ratio": _number(row.estimate) if ratio else None,
        "interval": ends if ratio else [None, None],
        "difference": None if ratio else _number(row.estimate),
        "difference_interval": [None, None] if ratio else ends,
        "confidence": row.confidence,
        "p": _number(row.p),
        "p_adjusted": _number(row.p_adjusted),
        "e": _number(row.e),
        "e_adjusted": _number(row.e_adjusted),
        "smallest_shown": _number(row.smallest_shown),
        "blocks_for_margin": None if math.isnan(row.blocks_for_margin) else int(row.blocks_for_margin),
        "seconds_for_margin": _number(row.seconds_for_margin),
        "verdict": row.verdict,
        "relevance": row.relevance,
        "weight": row.weight,
        "notes": [{"code": note.code, "text": note.text} for note in row.notes],
    }


def _gate(finding: GateFinding) -> dict[str, Any]:
    return {
        "words": list(finding.ask.words),
        "measures": list(finding.ask.measures),
        "found": [{"word": word, "what": what} for word, what in finding.found],
        "accepted": [{"word": word, "what": what} for word, what in finding.accepted],
        "not_told": list(finding.untold),
        "left_out": [
            {"workload": row.workload, "arm": row.arm, "measure": row.measure.name} for row in finding.left_out
        ],
        "not_ruled_out": [
            {
                "workload": one.row.workload,
                "arm": one.row.arm,
                "measure": one.row.measure.name,
                "scale": one.row.scale,
                "worse": _number(one.worse),
                "beyond_margin": one.beyond,
            }
            for one in finding.bounds
        ],
    }


def _settled(one: SettledRow) -> dict[str, Any]:
    entry = one.entry
    return {
        "workload": entry.workload,
        "arm": entry.arm,
        "measure": entry.measure,
        "fate": entry.fate,
        "standing": one.standing,
        "because": entry.because,
        "day": entry.day.isoformat(),
        "until": entry.until.isoformat() if entry.until else None,
        "up_to": entry.up_to,
        "relative": entry.relative,
        "record": entry.record,
        "evidence": entry.evidence,
    }


def _ceiling(row: CeilingRow) -> dict[str, Any]:
    return {
        "workload": row.workload,
        "arm": row.arm,
        "measure": row.measure.name,
        "unit": row.measure.unit,
        "limit": row.ceiling.limit,
        "share": row.ceiling.share,
        "verdict": row.verdict,
        "trials": row.trials,
        "beyond": row.beyond,
        "failed": row.failed,
        "not_read": row.unread,
        "p_holds": row.p_holds,
        "p_broken": row.p_broken,
        "p_adjusted": row.p_adjusted,
        "dependent": row.dependent,
        "serial_z": _number(row.serial_z),
        "sessions": row.sessions,
        "looked_at": row.looked_at,
    }


def _whole(one: Whole) -> dict[str, Any]:
    return {
        "arm": one.arm,
        "against": one.against,
        "candidate_over_reference": _number(one.ratio),
        "interval": [_number(one.low), _number(one.high)],
        "confidence": one.confidence,
        "workloads": list(one.workloads),
        "other_answer": list(one.other_answer),
        "failed": list(one.failed),
        "prevented": [{"workload": name, "why": why} for name, why in one.prevented],
    }


def _load(one: Whole) -> dict[str, Any]:
    saved, low, high = one.saved
    sums = one.sums
    return {
        **_whole(one),
        "per": one.per or None,
        "reference_s": _number(one.seconds),
        "saved_s": _number(saved),
        "saved_interval_s": [_number(low), _number(high)],
        "parts": [
            {
                "workload": part.workload,
                "runs": part.runs,
                "reference_s": part.seconds,
                "share": part.share,
                "ratio": part.ratio,
                "interval": [part.low, part.high],
                "contribution": part.contribution,
                "share_of_uncertainty": part.uncertainty,
            }
            for part in one.parts
        ],
        "plain_sums": sums
        and {
            "ratio": sums.sums.ratio,
            "interval": [sums.sums.low, sums.sums.high],
            "blocks_left_out": sums.left_out,
            "rare_slow_trials": sums.rare_slow,
        },
        "without_weight": list(one.without_weight),
    }


def _stopping(decision: Decision) -> dict[str, Any]:
    """Return the planned looks, with the nominal levels at which one comparison alone would be shown at the risk."""
    names = [workload.name for workload in decision.head.study.workloads]
    own = {"looks_of": {name: _looks(decision, w) for w, name in enumerate(names)}} if decision.looks_differ else {}
    return {"rule": decision.head.study.stopping, "looks": _looks(decision), **own}


def _looks(decision: Decision, workload: int | None = None) -> list[dict[str, Any]]:
    told = decision.planned_levels(workload)
    return [{"blocks": blocks, "level": level, "level_same": same} for blocks, level, same in told]


def _distribution(one: Distribution) -> dict[str, Any]:
    shifts = [
        {
            "share": shift.share,
            "ratio": _number(shift.ratio),
            "interval": [shift.low if shift.low > 0 else None, _number(shift.high)],
            "trials_needed": shift.needed or None,
        }
        for shift in one.shifts
    ]
    two = [{"arm": arm, "fast": fast, "slow": slow, "share": share} for arm, fast, slow, share in one.two]
    slow = [{"slow": count, "trials": trials} for count, trials in one.slow] if one.slow else [None, None]
    return {
        "workload": one.workload,
        "arm": one.arm,
        "against": one.against,
        "confidence": CONFIDENCE,
        "shifts": shifts,
        "two_speeds": two,
        "spread": {"reference": one.spread[0], "candidate": one.spread[1]},
        "slow_trials": {"reference": slow[0], "candidate": slow[1]},
    }


def _alone(single: Single) -> dict[str, Any]:
    s = single.summary
    return {
        "workload": single.workload,
        "arm": single.arm,
        "measure": single.measure.name,
        "unit": single.measure.unit,
        "trials": int(single.values.size) + single.failed,
        "failed": single.failed,
        "at_floor": single.at_floor,
        "median": s.median if s else None,
        "median_interval": [_number(s.median_low), _number(s.median_high)] if s else [None, None],
        "confidence": s.confidence if s else None,
        "quartiles": [s.first_quartile, s.third_quartile] if s else [None, None],
        "least": s.least if s else None,
        "most": s.most if s else None,
        "spread": s.spread if s else None,
    }
