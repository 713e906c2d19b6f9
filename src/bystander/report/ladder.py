"""A ladder as a page, and as text for a review comment."""

from __future__ import annotations

from bystander.design import ChainKind, machine_sentences, machine_title
from bystander.report.environment import shell, template_environment
from bystander.report.marked import Marked, code_block, md
from bystander.report.pieces.rungs import drawn_rungs
from bystander.report.theme import MARKS
from bystander.units import counted, moment_text, quantity_text, share_text
from bystander.verdicts import Ladder, change_text, edit_text, gain_of, ladder_lines, ladder_notes, so_far_text

__all__ = ["ladder_markdown", "ladder_methods", "ladder_page"]

_PIECES = ("forest", "rungs")


def ladder_methods(ladder: Ladder) -> list[str]:
    """Return how a ladder was measured and decided, a sentence each."""
    study = ladder.head.study
    return [
        f"Every state is an arm: {counted(ladder.blocks, 'block')} of each workload, in each of which all "
        f"{len(study.arms)} states ran once, back to back, in an order drawn by seed {study.seed}. Their number was "
        "fixed before the start.",
        f"{_TRIED[ladder.kind]} Its own gain is the pseudo-median of the log ratios within blocks (Hodges and Lehmann "
        "1963) of the state with the edit and the one without it, by the exact signed-rank test (Wilcoxon 1945).",
        *_held(ladder),
        "The axis of gains is logarithmic in the size of a change beyond 1 %, so that a factor and a few percent can "
        "both be read.",
    ]


_TRIED = {
    ChainKind.LINKS: "A link is the state after an edit against the one before it.",
    ChainKind.ADDED: "A link is the state after an edit against the one before it.",
    ChainKind.AGAIN: "A kept gain is the newest state against the same without that edit.",
    ChainKind.PIECES: "A piece of the edit alone is on top of the state before it; last, on top of all the others.",
}


def _held(ladder: Ladder) -> list[str]:
    """Return by what rule links are shown as changed, and what else is told of them."""
    rows, risk = len(ladder.rungs) * len(ladder.workloads), share_text(ladder.risk)
    if ladder.kind is ChainKind.PIECES:
        return [
            f"That any of {counted(rows, 'comparison')} is shown as changed by luck has a risk of {risk} (Holm 1979). "
            "A piece is called dependent where it gains otherwise alone than last, as a share and in time: by the "
            "larger p of two exact signed-rank tests, Holm over all pieces."
        ]
    held = (
        f"If no edit had changed anything, one would be shown in at most {risk} of such chains (Benjamini and Hochberg "
        f"1995, over {counted(rows, 'link')}). A gain within the margin of {share_text(ladder.margin)} counts where it "
        "is shown: small gains add up."
    )
    so_far = (
        "How far it has come is each state against the first in the same blocks, with its interval at "
        f"{share_text(1 - ladder.risk)}; products of links would add up their errors."
    )
    return [held, so_far] if ladder.kind.climbs else [held]


def ladder_page(ladder: Ladder) -> str:
    """Return the page of a ladder; everything in it is escaped and nothing is fetched."""
    environment = template_environment()
    head = ladder.head
    lines = ladder_lines(ladder)
    return environment.get_template("ladder.html").render(
        title=head.study.name,
        about=f"record {head.name}, {moment_text(head.started_wall_s)}; {len(head.study.arms)} states, by "
        f"{ladder.measure.label}",
        unfinished="" if head.complete else "The observation was not finished: links are decided on the whole blocks.",
        lines=lines,
        notes=[" ".join(text.split()) for text in ladder_notes(ladder)],
        drawn=drawn_rungs(ladder),
        several=not ladder.alone,
        methods=ladder_methods(ladder),
        machine_title=machine_title(head.machine),
        machine_sentences=machine_sentences(head.machine),
        **shell(environment, _PIECES),
    )


def ladder_markdown(ladder: Ladder) -> str:
    """Return a ladder as Markdown: every text in it is escaped by its type."""
    head, unit = ladder.head, ladder.measure.unit
    lines = [md("### {}", head.study.name), Marked("")]
    lines += [md("{}\n", text) for text in ladder_lines(ladder)]
    lines += [Marked("| | state | own gain | so far | time | lines | edit |")]
    lines += [Marked("| ---: | --- | --- | --- | ---: | --- | --- |")]
    if ladder.kind.climbs and ladder.alone:
        lines.append(md("| 0 | {} | | | {} | | |", ladder.first_name, quantity_text(ladder.first[0], unit)))
    for rung in ladder.rungs:
        verdict, change = gain_of(rung, ladder)
        so_far = rung.so_far[0] if ladder.alone and rung.so_far else None
        number = str(rung.number) if ladder.numbered else ""
        state = f"{rung.link.name}, {rung.fate}" if rung.fate else rung.link.name
        lines.append(
            md("| {} | {} | {} {}, {} | {} | {} | {} | {} |", number, state, MARKS[verdict], verdict, change,
               so_far_text(so_far) if so_far else "", quantity_text(so_far.median, unit) if so_far else "",
               edit_text(rung.link.size), rung.link.subject)
        )  # fmt: skip
        for row in () if ladder.alone else rung.rows:
            if row.verdict in row.measure.words or row.verdict == "failed":
                said = f"{MARKS[row.verdict]} {row.verdict}, {change_text(row)}"
                lines.append(md("| | {} | {} | | | | |", row.workload, said))
    lines.append(Marked(""))
    for text in ladder_notes(ladder):
        said, *commands = text.split("\n")
        lines.append(md("{}\n", said))
        lines += [*code_block([command.strip() for command in commands]), Marked("")] if commands else []
    return "\n".join([*lines, *(md("{}\n", text) for text in ladder_methods(ladder))]) + "\n"
