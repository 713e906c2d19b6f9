"""Chains: states that follow each other, each an arm, and the edits that lead from one to the next."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

__all__ = ["LUMPED_HUNKS", "Chain", "ChainKind", "ChainStates", "EditSize", "Joined", "Link", "chained"]

LUMPED_HUNKS = 5  # an edit of so many is told: it may be several edits in one


class ChainKind(StrEnum):
    """What the links of a record are."""

    LINKS = "links"  # each state against the one before
    ADDED = "added"  # one more state, behind a chain that another record measured
    AGAIN = "again"  # kept gains, tried again in the newest state
    PIECES = "pieces"  # the hunks, or files, of one edit: each alone, and all but one

    @property
    def climbs(self) -> bool:
        """Whether each link begins where one before it ended, so that they come to a total."""
        return self in (ChainKind.LINKS, ChainKind.ADDED)


@dataclass(frozen=True)
class ChainStates:
    """Where the states of a chain come from, as a study says; one of the first four.

    Attributes
    ----------
    revisions : tuple of str
        Revisions of git in their order, or one range "v1..v9".
    patches : str
        A folder of patches, each applied on top of those before, in the order of their names; "" for none.
    versions : tuple of str
        Values of {version} in the build steps and commands of the arm.
    again : bool
        The states that `observe --again` has kept.
    every : bool
        Of a range, all commits rather than first parents only.
    """

    revisions: tuple[str, ...] = ()
    patches: str = ""
    versions: tuple[str, ...] = ()
    again: bool = False
    every: bool = False


@dataclass(frozen=True)
class EditSize:
    """How much an edit changes: lines that it adds and takes away, in so many hunks of so many files."""

    added: int = 0
    removed: int = 0
    hunks: int = 0
    files: int = 0

    @property
    def lumped(self) -> bool:
        """Whether it is so much that it may be several edits in one."""
        return self.hunks >= LUMPED_HUNKS


@dataclass(frozen=True)
class Joined:
    """A state that could not be built, so that its edit counts with the next: its name, and why in one line."""

    name: str
    why: str


@dataclass(frozen=True)
class Link:
    """An edit: the state before it, the state after it, and what it is.

    Attributes
    ----------
    arm, since : str
        The arms after and before the edit, by their names.
    subject : str
        What it says of itself: a commit's first line, a patch's name.
    size : EditSize or None
        None where nobody knows.
    functions : tuple of str
        The functions that it changes, "module.function", as leads name them.
    joined : tuple of Joined
        States between the two that could not be built.
    label : str
        What it is called where that is not the state after it; see `name`.
    """

    arm: str
    since: str
    subject: str = ""
    size: EditSize | None = None
    functions: tuple[str, ...] = ()
    joined: tuple[Joined, ...] = ()
    label: str = ""

    @property
    def name(self) -> str:
        """What it is called."""
        return self.label or self.arm


@dataclass(frozen=True)
class Chain:
    """The links of a record whose arms are a chain, in their order.

    Attributes
    ----------
    what : str
        What was asked for: "v1..v9".
    of : str
        UUID of the record that it goes on with; "" for none.
    change : float or None
        The smallest gain of a link that was asked for, as a share; None where nothing but the study's margin was.
    """

    kind: ChainKind
    links: tuple[Link, ...]
    what: str = ""
    of: str = ""
    change: float | None = None


def chained(links: Sequence[Link], names: Sequence[str]) -> list[tuple[int, int]]:
    """Return the positions of the arms before and after each link; raise ValueError where one is not there."""
    places = {name: place for place, name in enumerate(names)}
    found = []
    for link in links:
        if link.arm not in places or link.since not in places or link.arm == link.since:
            raise ValueError(f'link "{link.arm}" leads from or to an arm that is not there')
        found.append((places[link.since], places[link.arm]))
    return found
