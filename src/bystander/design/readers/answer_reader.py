"""The key `answer` of a workload: what the arms must agree on, and how it is compared."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from bystander.design.readers.key_reader import KeyReader
from bystander.design.readers.study_keys import ANSWER_KEYS
from bystander.design.readers.values import pattern_problem, shown
from bystander.design.studies.placeholders import placeholder_names
from bystander.design.studies.workloads import AnswerRule

__all__ = ["read_answer"]

_COMPARED_AS_TEXT = ("mask", "order", "tolerance")


def read_answer(
    reader: KeyReader, table: Mapping[str, Any], path: str, rules: tuple[str, ...]
) -> tuple[str | None, AnswerRule]:
    """Return what the arms of a workload must agree on, None for nothing, and how it is compared.

    Parameters
    ----------
    rules : tuple of str
        What it can be for this kind of workload, the usual one first.
    """
    value = table.get("answer")
    path = f"{path}.answer"
    if value is None:
        return None, AnswerRule()
    if not isinstance(value, dict):
        return _of(reader, value, path, tuple(rule for rule in rules if rule != "file")), AnswerRule()
    reader.keys(value, ANSWER_KEYS, path)
    file, mask, order, tolerance, accept, compare = (
        reader.value(value, ANSWER_KEYS[name], path)
        for name in ("file", "mask", "order", "tolerance", "accept", "compare")
    )
    of = _of(reader, value.get("of", "file" if file else rules[0]), path, rules)
    if (of == "file") != bool(file):
        reader.wrong(path, 'of = "file" and file = "..." go together')
    for key in _COMPARED_AS_TEXT:
        if of == "exit code" and key in value:
            reader.wrong(f"{path}.{key}", "an exit code is compared as it is")
    if compare:
        _check_compare(reader, compare, [key for key in _COMPARED_AS_TEXT if key in value], of, f"{path}.compare")
    for pattern in mask:
        if problem := pattern_problem(pattern):
            reader.wrong(f"{path}.mask", problem)
    return of, AnswerRule(file, mask, order == "any", tolerance, accept, compare)


def _check_compare(reader: KeyReader, template: str, others: list[str], of: str | None, path: str) -> None:
    """Check what a program that compares answers is given, and that nothing else compares them."""
    if of not in ("output", "file"):
        reader.wrong(path, f"it compares what is printed or a file, and the answer is the {of}")
    elif others:
        reader.wrong(path, f"a program compares the answers, so that {others[0]} does not apply; keep one of them")
    elif not {"reference", "candidate"} <= set(placeholder_names(template)):
        reader.wrong(path, f"{shown(template)} is not given both answers; write {{reference}} and {{candidate}}")


def _of(reader: KeyReader, value: Any, path: str, rules: tuple[str, ...]) -> str | None:
    if value in rules:
        return str(value)
    known = " or ".join(f'"{rule}"' for rule in rules)
    reader.wrong(path, f"{shown(value)} is no answer rule here; write {known}")
    return None
