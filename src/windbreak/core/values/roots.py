"""Roots as they are called here: the one thing that keeps several components of a site back."""

from __future__ import annotations

from typing import Literal

from windbreak.core.values.basics import Value
from windbreak.core.values.findings import NextAct

RootKind = Literal[
    "ended",  # a licence ended
    "not covered",  # a licence is there, and does not cover the release
    "no seat",  # a licence would give it; this site has no seat
    "no licence",
    "offer",  # the host does not offer a runtime
    "hold",  # a person's
    "rule",  # one of the house
    "undecided",  # a release waits for a person's word
    "scope",  # the plan leaves it out
    "soak",
    "channel",
    "unshipped",  # its maker has nothing that would do yet
    "package",  # neither feed nor shelf has it
    "from",  # it can be reached only from what is out of reach
    "conflict",  # what stands on the site does not go together
]


class Root(Value):
    """One thing that keeps components back; ``text`` is a sentence, ``ways`` what would change it.

    Two roots with the same ``kind`` and ``on`` are one. ``through`` is the other product that it
    keeps back first, where a component only follows that; "" where it keeps it back by itself.
    """

    kind: RootKind
    on: dict[str, str]
    text: str
    through: str = ""
    ways: tuple[NextAct, ...] = ()

    @property
    def id(self) -> str:
        """What is equal for equal roots, wherever they are told."""
        return " ".join([self.kind, *(f"{k}={v}" for k, v in sorted(self.on.items()))])
