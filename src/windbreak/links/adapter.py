"""What every content system's adapter offers: the calls of an agent, in core's types.

A new content system is one module that meets this and a line in ``systems``.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Annotated, Any, Literal, Protocol

from pydantic import Field

from windbreak.core.values.basics import Value
from windbreak.core.values.inventories import HealthCheck, Inventory, Registration
from windbreak.core.values.matters import CameIn
from windbreak.core.values.packages import Package


class ChangeState(Value):
    """What became of a change id. While it is running: its phase, its last sign of life, and how
    much is ``done`` ``of`` all; 0 of 0 where that can't be told.
    """

    state: str  # unknown, void, running, done, failed
    result: dict[str, Any] = {}
    code: str | None = None
    detail: str = ""
    phase: str = ""
    since: datetime | None = None
    sign: datetime | None = None  # its last sign of life, by the site's clock as all instants here
    done: int = 0
    of: int = 0


class AgentLook(Value):
    """The agent's own checks; paths of pages worth looking at and, once, of the editor.

    ``opens``: where a browser opens the editor under the looking pass, where it can.
    ``covers``: the template or builder that a path stands for, ``{"/news/1": "news item"}``.
    ``written`` changes when somebody writes something; ``wrote`` is how often that was since the
    snapshot of a run, by table. ``pass_`` shows the pages behind the maintenance page for some
    minutes, and ``came`` is what was written since the instant that was asked about, oldest first.
    All three are empty where it can't tell.
    """

    counts: dict[str, int]
    settings: str
    errors: tuple[str, ...]
    written: str
    wrote: dict[str, int] = {}
    pages: tuple[tuple[str, str], ...]
    covers: dict[str, str] = {}
    editor: str
    opens: str = ""
    pass_: str = Field("", alias="pass", max_length=200, pattern=r"^[\w.~+/=-]*$")
    came: tuple[CameIn, ...] = ()


class OwnFile(Value):
    """A file in a component's folder that its package does not hold, or holds otherwise; or one
    that it holds, and the folder does not.
    """

    path: str
    bytes: int
    state: Literal["added", "changed", "missing"]
    sha256: str = ""


class Start(Value):
    """What a component is to be when another version takes its place; anything else is refused.

    ``pristine``: SHA-256 of the files of its package, by path; empty where the package can't be
    had. ``decided``: the same of files that were changed in place, as they were when it was decided
    what becomes of them. A file that was added is carried over; one that was changed since is
    refused as ``own-files-changed``.
    """

    version: str | None
    pristine: dict[str, str] = {}
    decided: dict[str, str] = {}


class OwnFiles(Value):
    """What an agent answers when it is asked for a component's own files."""

    files: tuple[OwnFile, ...]


class Health(Value):
    """What an agent answers when it is asked to have the system check itself: what needs all of it.
    ``registrations``: None where it does not tell.
    """

    checks: Annotated[tuple[HealthCheck, ...], Field(max_length=200)]
    registrations: Annotated[tuple[Registration, ...], Field(max_length=200)] | None = None


class SnapshotPart(Value):
    """A part of a snapshot as it is fetched: base64, and the size of the whole."""

    data: str
    bytes: int


class SentPart(Value):
    """A part of a snapshot as it is brought to another site; the sum is of the whole."""

    snapshot: str
    offset: int
    data: str
    bytes: int
    sha256: str


class Rotated(Value):
    """The key that an agent will sign with from now on."""

    public_key: str


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
    def health(self) -> Health: ...
    def look(self, since: datetime | None = None) -> AgentLook: ...
    def change(self, change: str) -> ChangeState: ...
    def void(self, change: str) -> ChangeState: ...
    def do(self, call: str, change: str, **args: object) -> dict[str, Any]: ...
    def own_files(self, product: str, pristine: Mapping[str, str]) -> tuple[OwnFile, ...]: ...
    def apply(
        self,
        change: str,
        package: Package,
        archive: bytes,
        site: str,
        carry: Sequence[str] = (),
        start: Start | None = None,
    ) -> dict[str, Any]: ...
    def fetch(self, snapshot: str, offset: int) -> SnapshotPart: ...
    def bring(self, change: str, part: SentPart) -> dict[str, Any]: ...
    def rotate(self, key: str) -> str: ...
    def goodbye(self) -> None: ...
