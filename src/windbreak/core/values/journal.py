"""The journal of a run, typed: its acts, what each brought, and what became of it.

An **act** is its kind and what it is done to; two acts are one where all of that is equal. An
**entry** tells that an act was meant, done, failed, put back or noted. What a done act brought is
one frozen value for each kind (``DETAILS``); whoever asks for an act by its maker (``acts``) is
given that value. Sentences are made from acts in ``wording/journal.py``, and never read back.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime
from enum import StrEnum
from typing import Any, Generic, Literal, TypeVar, cast

from pydantic import ConfigDict, SerializeAsAny, ValidationError, model_validator

from windbreak.core.values.basics import Value
from windbreak.core.values.matters import CameIn
from windbreak.core.values.runs import Probe, Seen
from windbreak.core.values.verdicts import PlannedStep

EntryState = Literal["meant", "done", "failed", "put back", "noted"]


class ActKind(StrEnum):
    """What can stand in a journal."""

    # Before and prepare.
    INVENTORY = "inventory"
    PACKAGES = "packages"
    OWN_FILES = "own-files"
    USUAL_LENGTHS = "usual-lengths"
    BASELINE = "baseline"
    PICTURES_BEFORE = "pictures-before"
    SNAPSHOT = "snapshot"
    UPDATES_PAUSED = "updates-paused"
    CACHE_OFF = "cache-off"
    # The steps.
    STEP = "step"
    PAGE_UP = "page-up"
    PAGE_DOWN = "page-down"
    SWITCH_OFF = "switch-off"
    SWITCH_ON = "switch-on"
    APPLY = "apply"
    CLEAR = "clear"
    MIGRATE = "migrate"
    REGENERATE = "regenerate"
    REGISTER = "register"
    READ_BACK = "read-back"
    PROBE = "probe"
    WHOLE_INVENTORY = "whole-inventory"
    PLANNED_ANEW = "planned-anew"
    OVERRUN = "overrun"
    # Going back.
    PUT_BACK = "put-back"
    WRITTEN_SINCE = "written-since"
    LOST = "lost"
    RESTORE = "restore"
    # After.
    WAITS_FOR_ERRAND = "waits-for-errand"
    AS_IT_WAS = "as-it-was"
    CACHES_PURGED = "caches-purged"
    PICTURES_AFTER = "pictures-after"
    ALARM = "alarm"
    # Of another act: ``name`` is its kind.
    FIRST_LOOK = "first-look"
    MENDED = "mended"
    STATE_ASKED = "state-asked"
    GIVEN_UP = "given-up"
    LEFT_TO_PERSON = "left-to-person"
    NOTHING_KEPT = "nothing-kept"
    NOT_MADE_ANEW = "not-made-anew"
    FETCHED_AGAIN = "fetched-again"
    WAITED = "waited"
    OTHER = "other"  # what a move brings besides, or from before acts had kinds: see its name


D = TypeVar("D", bound=Value)


class Nothing(Value):
    """What an act brought of which nothing is read again."""

    model_config = ConfigDict(frozen=True, extra="ignore")


class Recorded(Nothing):
    """What a site was before a leg of the run: ``changed`` what is not as planned, in words;
    ``active`` what was on, ``caches`` those that were.
    """

    changed: tuple[str, ...] = ()
    free_mb: int = 0
    active: tuple[str, ...] = ()
    automatic_updates: bool = False
    caches: tuple[str, ...] = ()


class OwnFilesSeen(Nothing):
    """The files of a site's own in what is moved, by product: which go along, which are set aside,
    their sums, and the products of which nothing could be told.
    """

    carry: dict[str, tuple[str, ...]] = {}
    aside: dict[str, tuple[str, ...]] = {}
    sums: dict[str, dict[str, str]] = {}
    unknown: tuple[str, ...] = ()


class UsualLengths(Nothing):
    """Seconds that acts usually take on a host, by their kind."""

    seconds: dict[ActKind, float] = {}


class Snapshotted(Nothing):
    """A snapshot as its agent made it; ``written``: the mark of what was written until then."""

    snapshot: str | None = None
    files: int = 0
    bytes: int | None = None
    written: str | None = None


class Migrated(Nothing):
    """``of``: how many pieces were moved."""

    of: int | None = None


class Judged(Nothing):
    """What was seen after a step, held against the baseline."""

    seen: tuple[Seen, ...] = ()


class ReadBack(Nothing):
    """The versions of a step's products as the site has them, None where one is gone."""

    versions: dict[str, str | None] = {}


class HeldToPlan(Nothing):
    """What differs from the plan after a step, in words; ``off``: what is off and was on."""

    odd: tuple[str, ...] = ()
    off: tuple[str, ...] = ()


class PlannedAnew(Nothing):
    """The steps in the place of those after ``after``, and what the site ran then."""

    after: int
    start: dict[str, str]
    steps: tuple[PlannedStep, ...]


class WrittenSince(Nothing):
    """Whether nothing was written since the snapshot; else how often, by table."""

    same: bool
    wrote: dict[str, int] = {}


class Lost(Nothing):
    """What a restore loses, one by one."""

    came: tuple[CameIn, ...] = ()


class Restored(Nothing):
    """``left``: what the site's database did not make anew."""

    left: tuple[str, ...] = ()


class WaitsFor(Nothing):
    errand: int


Box = tuple[int, int, int, int]
"""Left, top, width and height, in pixels."""


class Picture(Nothing):
    """One page before the run, at one width; after it with ``boxes``: where the two differ."""

    page: str
    stem: str
    width: int
    height: int
    lively: tuple[Box, ...] = ()
    boxes: tuple[Box, ...] | None = None


class Pictured(Nothing):
    pictures: tuple[Picture, ...] = ()


DETAILS: dict[ActKind, type[Value]] = {
    ActKind.INVENTORY: Recorded,
    ActKind.OWN_FILES: OwnFilesSeen,
    ActKind.USUAL_LENGTHS: UsualLengths,
    ActKind.BASELINE: Probe,
    ActKind.PICTURES_BEFORE: Pictured,
    ActKind.PICTURES_AFTER: Pictured,
    ActKind.SNAPSHOT: Snapshotted,
    ActKind.STEP: Judged,
    ActKind.MIGRATE: Migrated,
    ActKind.READ_BACK: ReadBack,
    ActKind.PROBE: Probe,
    ActKind.FIRST_LOOK: Probe,
    ActKind.WHOLE_INVENTORY: HeldToPlan,
    ActKind.PLANNED_ANEW: PlannedAnew,
    ActKind.WRITTEN_SINCE: WrittenSince,
    ActKind.LOST: Lost,
    ActKind.RESTORE: Restored,
    ActKind.WAITS_FOR_ERRAND: WaitsFor,
}
"""What a kind of act brings; of the others nothing is read again."""


@dataclass(frozen=True, slots=True)
class RunAct(Generic[D]):
    """An act of a run; ``D`` is what it brings. ``step`` counts from 1; ``name`` tells apart what
    is the same otherwise: a cache, what a page is up for; ``leg`` counts what is done anew after
    an errand, ``turn`` what is done again.
    """

    kind: ActKind
    step: int | None = None
    product: str | None = None
    name: str | None = None
    leg: int = 1
    turn: int = 1

    @property
    def again(self) -> RunAct[D]:
        """The same, once more."""
        return replace(self, turn=self.turn + 1)

    def about(self, kind: ActKind) -> RunAct[Any]:
        """A note of a kind that tells of this act."""
        return RunAct(kind, self.step, self.product, self.full_name, self.leg, self.turn)

    def detail(self, brought: dict[str, Any]) -> D:
        """What the act brought, as it is kept. Raises ValueError where it is not of its shape."""
        kind = DETAILS.get(self.kind, Nothing)
        return cast(D, kind.model_validate(brought, strict=False))

    @property
    def full_name(self) -> str:
        return f"{self.kind} {self.name}" if self.name else str(self.kind)

    def brought_by(self, entry: JournalEntry) -> D:
        """What the act brought, by its line in the journal."""
        return cast(D, entry.detail)

    def __str__(self) -> str:
        """The act as a log names it: "apply 2 plugin/lee"."""
        words = [self.kind, self.step, self.product, self.name]
        words += [f"leg {self.leg}" if self.leg > 1 else None]
        words += [f"turn {self.turn}" if self.turn > 1 else None]
        return " ".join(str(word) for word in words if word is not None)


class JournalEntry(Value):
    """One line of what a run meant to do and did. ``code`` of what failed; ``detail`` what a done
    act brought, as ``DETAILS`` has it.
    """

    id: int
    run: int
    at: datetime
    kind: ActKind
    step: int | None = None
    product: str | None = None
    name: str | None = None
    leg: int = 1
    turn: int = 1
    state: EntryState
    change: str | None = None
    code: str | None = None
    text: str = ""
    detail: SerializeAsAny[Value] = Nothing()

    @model_validator(mode="before")
    @classmethod
    def _detail_of_its_kind(cls, data: Any) -> Any:
        if isinstance(data, dict) and isinstance(data.get("detail"), dict):
            brought = data["detail"] or data.get("state") == "done"
            kind = DETAILS.get(ActKind(data["kind"]), Nothing) if brought else Nothing
            try:
                detail = kind.model_validate(data["detail"], strict=False)
            except ValidationError:  # of an older program, in a shape that nobody knows now
                detail = Nothing()
            return {**data, "detail": detail}
        return data

    @property
    def is_whole(self) -> bool:
        """Whether what it brought can be read still."""
        return isinstance(self.detail, DETAILS.get(self.kind, Nothing))

    @property
    def act(self) -> RunAct[Any]:
        return RunAct(self.kind, self.step, self.product, self.name, self.leg, self.turn)


# The acts, each made with what it is told apart by.


def inventory(leg: int) -> RunAct[Recorded]:
    return RunAct(ActKind.INVENTORY, leg=leg)


def packages(leg: int) -> RunAct[Nothing]:
    return RunAct(ActKind.PACKAGES, leg=leg)


def own_files(leg: int) -> RunAct[OwnFilesSeen]:
    return RunAct(ActKind.OWN_FILES, leg=leg)


def usual_lengths() -> RunAct[UsualLengths]:
    return RunAct(ActKind.USUAL_LENGTHS)


def baseline(leg: int) -> RunAct[Probe]:
    return RunAct(ActKind.BASELINE, leg=leg)


def pictures_before() -> RunAct[Pictured]:
    return RunAct(ActKind.PICTURES_BEFORE)


def pictures_after() -> RunAct[Pictured]:
    return RunAct(ActKind.PICTURES_AFTER)


def snapshot(leg: int) -> RunAct[Snapshotted]:
    return RunAct(ActKind.SNAPSHOT, leg=leg)


def updates_paused(leg: int) -> RunAct[Nothing]:
    return RunAct(ActKind.UPDATES_PAUSED, leg=leg)


def cache_off(name: str, leg: int) -> RunAct[Nothing]:
    return RunAct(ActKind.CACHE_OFF, name=name, leg=leg)


def step(number: int) -> RunAct[Judged]:
    return RunAct(ActKind.STEP, number)


def page_up(number: int | None = None, *, why: str | None = None, turn: int = 1) -> RunAct[Nothing]:
    """The maintenance page goes up: for a step, or ``why``: a restore, a person's help."""
    return RunAct(ActKind.PAGE_UP, number, name=why, turn=turn)


def page_down(number: int | None = None, *, why: str | None = None) -> RunAct[Nothing]:
    return RunAct(ActKind.PAGE_DOWN, number, name=why)


def switch(number: int | None, product: str, *, on: bool, turn: int = 1) -> RunAct[Nothing]:
    """A component is switched; at the end of a run, for no step."""
    kind = ActKind.SWITCH_ON if on else ActKind.SWITCH_OFF
    return RunAct(kind, number, product, turn=turn)


def apply(number: int, product: str) -> RunAct[Nothing]:
    """A component is moved, or leaves."""
    return RunAct(ActKind.APPLY, number, product)


def migrate(number: int, product: str) -> RunAct[Migrated]:
    return RunAct(ActKind.MIGRATE, number, product)


def bring(kind: str, number: int, product: str, *, back: bool = False) -> RunAct[Any]:
    """What a move brings that the run does itself; ``back``: from the old, once it was put back."""
    own = kind in (ActKind.MIGRATE, ActKind.REGENERATE, ActKind.REGISTER)
    words = [*([] if own else [kind]), *(["back"] if back else [])]
    name = " ".join(words) or None
    return RunAct(ActKind(kind) if own else ActKind.OTHER, number, product, name)


AFTER_PUTTING_BACK, AFTER_RESTORE, AT_THE_END = "after putting back", "after restore", "at the end"
FOR_HELP, FOR_HELP_AGAIN = "for help", "for help again"  # why the page goes up
BY_HAND = "by hand"  # of a way out, whose turn tells which


def read_back(number: int, when: str | None = None) -> RunAct[ReadBack]:
    return RunAct(ActKind.READ_BACK, number, name=when)


def probe(number: int | None = None, when: str | None = None, turn: int = 1) -> RunAct[Probe]:
    """A look at the whole site that is held against the baseline."""
    return RunAct(ActKind.PROBE, number, name=when, turn=turn)


def whole_inventory(number: int) -> RunAct[HeldToPlan]:
    return RunAct(ActKind.WHOLE_INVENTORY, number)


def planned_anew(after: int, turn: int) -> RunAct[PlannedAnew]:
    return RunAct(ActKind.PLANNED_ANEW, after, turn=turn)


def overrun(number: int) -> RunAct[Nothing]:
    return RunAct(ActKind.OVERRUN, number)


def put_back(number: int, product: str) -> RunAct[Nothing]:
    return RunAct(ActKind.PUT_BACK, number, product)


def written_since() -> RunAct[WrittenSince]:
    return RunAct(ActKind.WRITTEN_SINCE)


def restore(way: int | None = None) -> RunAct[Restored]:
    """The snapshot is brought back: by the run itself, or by a way out, by its turn."""
    return RunAct(ActKind.RESTORE, name=BY_HAND if way else None, turn=way or 1)


def lost_by(restore: RunAct[Restored]) -> RunAct[Lost]:
    return RunAct(ActKind.LOST, name=restore.full_name, turn=restore.turn)


def waits_for_errand(leg: int) -> RunAct[WaitsFor]:
    return RunAct(ActKind.WAITS_FOR_ERRAND, leg=leg)


def caches_purged(leg: int) -> RunAct[Nothing]:
    return RunAct(ActKind.CACHES_PURGED, leg=leg)


def as_it_was() -> RunAct[Nothing]:
    return RunAct(ActKind.AS_IT_WAS)


def alarm() -> RunAct[Nothing]:
    return RunAct(ActKind.ALARM)


def waited(number: int | None) -> RunAct[Nothing]:
    return RunAct(ActKind.WAITED, number)


def fetched_again(product: str, turn: int) -> RunAct[Nothing]:
    return RunAct(ActKind.FETCHED_AGAIN, product=product, turn=turn)
