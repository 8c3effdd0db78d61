"""The ways out of a matter, in words: what each does, and what is lost by it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

from windbreak.core.values.matters import CameIn, WayOut, WayOutAct
from windbreak.wording.words import counted, listed


@dataclass(frozen=True)
class Standing:
    """What is known of a matter's site now. ``step`` is the title of the step that may still be put
    back, ``steps`` the titles of all such, ``snapshot`` when the snapshot was made; ``came`` what
    came in since, by kind, None where the agent does not answer. ``owed`` in words; ``page`` up;
    ``worse`` how many looks of the last probe were. ``again``: whether the run can be taken up
    where it was, or its plan be begun anew, the site being as it starts from. ``items``: what came
    in, one by one; ``seconds``: how long a way takes, about, by act; ``behind``: whether the pages
    can be seen behind the maintenance page; ``later``: what later runs moved on the site, which
    stands on what this one did. ``migrated``: whose data had begun to be moved in a step that is
    not put back, by the number of the step.
    """

    step: str | None = None
    steps: Sequence[str] = ()
    snapshot: str | None = None
    came: Mapping[str, int] | None = field(default_factory=dict)
    owed: str = ""
    page: bool = False
    worse: int = 0
    again: Literal["take up", "anew"] | None = None
    items: tuple[CameIn, ...] = ()
    seconds: Mapping[WayOutAct, float] = field(default_factory=dict)
    behind: bool = False
    number: int = 0
    later: Sequence[str] = ()
    migrated: Mapping[int, str] = field(default_factory=dict)


def ways_out(now: Standing) -> tuple[WayOut, ...]:
    """All ways out, what loses least first; what can't be taken now last, with why. Where no look
    was worse, what keeps the site as it is comes before what undoes what is fine.
    """

    def rank(way: WayOut) -> tuple[bool, bool, int]:
        return not way.possible, bool(way.loses), 0 if now.worse else _undoes(way.act, now)

    return tuple(sorted([_way(act, now) for act in _ORDER], key=rank))


_ORDER: tuple[WayOutAct, ...] = (
    "put-back-step",
    "put-back-all",
    "restore",
    "accept",
    "take-page-away",
    "go-on",
    "try-again",
    "abandon",
)


def _undoes(act: WayOutAct, now: Standing) -> int:
    """How far a way leads from the site as it is: 0 for what goes on from there."""
    if act == "go-on" or (act == "try-again" and now.again == "take up"):
        return 0
    return 1 if act in ("accept", "take-page-away") else 2


def _way(act: WayOutAct, now: Standing) -> WayOut:
    if now.came is None and act != "abandon":
        why = "Its agent does not answer now; nothing can be done on the site."
        return WayOut(act=act, label=_LABELS[act], text=why, possible=False)
    text, possible, loses = _prospect(act, now)
    return WayOut(
        act=act,
        label=_label(act, now, sum((now.came or {}).values()) if loses else 0),
        text=text,
        possible=possible,
        loses=loses,
        closes=act not in ("take-page-away", "try-again"),
        seconds=round(now.seconds.get(act, 0)) if possible else 0,
        lost=now.items if loses else (),
    )


def _label(act: WayOutAct, now: Standing, lost: int) -> str:
    if act == "put-back-step" and now.step is not None:
        return f"Put back step {now.number}"
    return f"Restore and lose {lost}" if lost else _LABELS[act]


_CLOSES_LATER = "The matter closes when that run has ended well."

_LABELS: dict[WayOutAct, str] = {
    "put-back-step": "Put back the step",
    "put-back-all": "Put back everything",
    "restore": "Restore the snapshot",
    "accept": "Accept as it is",
    "take-page-away": "Take the page away",
    "go-on": "Go on with the rest",
    "try-again": "Try again",
    "abandon": "Abandon",
}


def _moved_since(now: Standing) -> str:
    return f"Later runs moved {listed(list(now.later))}"


def _data_moved(names: list[str]) -> str:
    return (
        f"{listed(names)} had begun to move data into a new form. The older version can't read it. "
        "Restore the snapshot, or accept it as it is."
    )


def _prospect(act: WayOutAct, now: Standing) -> tuple[str, bool, tuple[str, ...]]:
    """The text of a way out, whether it can be taken, and what is lost."""
    page = ""
    if now.page:
        look = " Looks past the page first; it" if now.behind else " The maintenance page"
        page = f"{look} comes down only if all is as before."
    match act:
        case "put-back-step":
            if now.step is None:
                return "No step is left that could be put back.", False, ()
            if now.later:
                return f"{_moved_since(now)}; what it stands on is not taken away.", False, ()
            if now.number in now.migrated:
                return _data_moved([now.migrated[now.number]]), False, ()
            return f"Puts {now.step} back and looks at the site.{page}", True, ()
        case "put-back-all":
            if len(now.steps) < 2:
                return "There is no more than one step to put back.", False, ()
            if now.later:
                return f"{_moved_since(now)}; what it stands on is not taken away.", False, ()
            if now.migrated:
                return _data_moved(list(now.migrated.values())), False, ()
            what = listed(list(now.steps))
            return f"Puts back, last first: {what}. Then looks at the site.{page}", True, ()
        case "restore":
            if now.snapshot is None:
                return "There is no snapshot of this run.", False, ()
            came = sorted((now.came or {}).items())
            came_in = [counted(n, kind.removesuffix("s")) for kind, n in came]
            lost = (*came_in, *now.later)
            since = f"Files and database go back to {now.snapshot}."
            more = f" {listed(came_in)} since then would be lost." if came_in else ""
            more += f" {_moved_since(now)}: that is undone as well." if now.later else ""
            kept = " They are written down first, for the owner." if now.items else ""
            return f"{since}{more}{kept}{page}", True, lost
        case "accept":
            owed = f" Set back: {now.owed}." if now.owed else ""
            looks = f"{counted(now.worse, 'look')} {'is' if now.worse == 1 else 'are'}"
            seen = f" {looks} worse than before the run." if now.worse else ""
            return f"You have looked and say that it may stay as it is.{seen}{owed}", True, ()
        case "take-page-away":
            if not now.page:
                return "No maintenance page of ours is up.", False, ()
            return "Visitors see the pages as they are. The matter stays open.", True, ()
        case "go-on":
            if now.page or now.worse:
                return "The next step can't be judged while the pages are not as before.", False, ()
            return "Accepts it as it is and draws up a plan of the rest, to be approved.", True, ()
        case "try-again":
            if now.again == "take up":
                text = "Takes the run up where it was. What was done is not done again."
                return f"{text} {_CLOSES_LATER}", True, ()
            if now.again == "anew" and now.worse:
                return "The pages are not as before: the run would end before it began.", False, ()
            if now.again == "anew":
                text = "Begins the same plan again: the site is as it starts from."
                return f"{text} {_CLOSES_LATER}", True, ()
            return "The site is not as the plan starts from, so it can't be begun again.", False, ()
        case "abandon":
            stays = " The page stays up while the pages behind it are broken." if now.page else ""
            kept = f"Sets back what can be: {now.owed}. What can't be stays owed."
            return f"{kept if now.owed else 'Nothing is owed.'}{stays}", True, ()
