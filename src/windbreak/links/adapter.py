"""What every content system's adapter offers: the calls of an agent, in core's types.

A new content system is one module that meets this and a line in ``systems``.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any, Literal, Protocol

from windbreak.core.values.basics import Value
from windbreak.core.values.inventories import Inventory
from windbreak.core.values.packages import Package


class ChangeState(Value):
    """What became of a change id."""

    state: str  # unknown, running, done, failed
    result: dict[str, Any] = {}
    code: str | None = None
    detail: str = ""


class AgentLook(Value):
    """The agent's own checks; paths of pages worth looking at and, once, of the editor."""

    counts: dict[str, int]
    settings: str
    errors: tuple[str, ...]
    written: str
    pages: tuple[tuple[str, str], ...]
    editor: str


class OwnFile(Value):
    """A file in a component's folder that its package does not hold, or holds otherwise."""

    path: str
    bytes: int
    state: Literal["added", "changed"]


class OwnFiles(Value):
    """What an agent answers when it is asked for a component's own files."""

    files: tuple[OwnFile, ...]


class Hello(Value):
    """What an agent answers to the first signed call under a code."""

    agent_id: str
    public_key: str
    proof: str
    agent_version: str
    can: tuple[str, ...]


class Agent(Protocol):
    """One site's agent. Every call raises a LinkError where it could not be made.

    ``change`` is an id made by the service: the same id is never carried out twice. ``ahead`` is
    how many seconds its clock was ahead of ours at its last answer.
    """

    ahead: float | None

    def hello(self, nonce: str, site: str) -> Hello: ...
    def inventory(self, site: str, at: datetime) -> Inventory: ...
    def look(self) -> AgentLook: ...
    def change(self, change: str) -> ChangeState: ...
    def do(self, call: str, change: str, **args: object) -> dict[str, Any]: ...
    def own_files(self, product: str, pristine: Mapping[str, str]) -> tuple[OwnFile, ...]: ...
    def apply(
        self, change: str, package: Package, archive: bytes, site: str, carry: Sequence[str] = ()
    ) -> dict[str, Any]: ...
    def goodbye(self) -> None: ...
