"""Gates: what must have ended well, and for how long it must be quiet, before a site goes.

A twin's gate keeps back its own site. The gate of the canaries keeps back the rest, but for sites
where something is closed that can't wait; where the rest goes in waves, each keeps back the next.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from itertools import pairwise

from windbreak.core.values.bookings import Booking
from windbreak.core.values.rollouts import UNDER_WAY, Member, Rollout
from windbreak.core.values.runs import Run
from windbreak.operations.context import Context
from windbreak.wording.words import listed

CANARIES = "canaries"
OF_CANARIES, OF_ITS_TWIN = "the gate of the canaries", "the gate of its twin"
_WAVE = "wave-"
ALWAYS = datetime.min.replace(tzinfo=UTC)


@dataclass(frozen=True)
class Gate:
    """A gate of a rollout: the sites it waits for, and those it keeps back."""

    id: str
    rollout: Rollout
    after: tuple[Member, ...]
    before: tuple[Member, ...]

    @property
    def quiet(self) -> timedelta:
        return timedelta(minutes=self.rollout.quiet_minutes)


@dataclass(frozen=True)
class Standing:
    """How a gate stands: the runs that ended well, those that did not, the sites still to go; and
    from when on it is open, where that can be told.
    """

    gate: Gate
    well: tuple[Run, ...]
    badly: tuple[Run, ...]
    to_go: tuple[Member, ...]
    under_way: tuple[Run, ...]
    spoken: bool  # somebody opens it though not all ended well

    @property
    def wants_a_word(self) -> bool:
        return bool(self.badly) and not self.spoken

    @property
    def opens(self) -> datetime | None:
        """When it opens; None while that depends on what is still to come."""
        if self.to_go or self.under_way or self.wants_a_word:
            return None
        since = self.quiet_since
        return since + self.gate.quiet if since else ALWAYS

    @property
    def quiet_since(self) -> datetime | None:
        """When the last of those it waits for ended; None while one has still to end."""
        if self.to_go or self.under_way:
            return None
        ended = [run.ended_at for run in (*self.well, *self.badly) if run.ended_at is not None]
        return max(ended, default=None)


def of_rollout(context: Context, rollout: Rollout) -> list[Gate]:
    """The gates of a rollout: those of twins by their sites, then that of the canaries, then those
    between the waves of the rest.
    """
    gates = []
    going = rollout.going
    twin_of = {m.site: context.store.sites.get(m.site).twin_of for m in going if m.wave == "twin"}
    for member in going:
        twins = tuple(m for m in going if twin_of.get(m.site) == member.site)
        if twins and member.wave != "twin":
            gates.append(Gate(member.site, rollout, twins, (member,)))
    canaries = tuple(m for m in going if m.wave == "canary")
    rest = tuple(m for m in going if m.wave == "rest" and not m.urgent)
    if canaries and rest:
        gates.append(Gate(CANARIES, rollout, canaries, rest))
    turns = sorted({member.turn for member in rest})
    for first, then in pairwise(turns):
        after, before = ([m for m in rest if m.turn == turn] for turn in (first, then))
        gates.append(Gate(wave_id(then), rollout, tuple(after), tuple(before)))
    return gates


def wave_id(turn: int) -> str:
    """The id of the gate before a wave of the rest: "wave-2"."""
    return f"{_WAVE}{turn}"


def of_wave(turn: int) -> str:
    """What the gate before a wave of the rest is called, beside its rollout."""
    return f"the gate before wave {turn}"


def standing(context: Context, gate: Gate) -> Standing:
    """How a gate stands. Reads."""
    well, badly, to_go, under_way = [], [], [], []
    for member in gate.after:
        run = run_of(context, member)
        if run is None:
            to_go.append(member)
        elif run.ended_at is None:
            under_way.append(run)
        elif run.state == "done":
            well.append(run)
        else:
            badly.append(run)
    last = max((run.ended_at for run in badly if run.ended_at), default=ALWAYS)
    spoken = any(word.gate == gate.id and word.at >= last for word in gate.rollout.words)
    return Standing(gate, tuple(well), tuple(badly), tuple(to_go), tuple(under_way), spoken)


def run_of(context: Context, member: Member) -> Run | None:
    """The newest run of a member's plan. Reads."""
    if member.plan is None:
        return None
    runs = context.store.runs.all(plan=member.plan, newest_first=True, limit=1)
    return runs[0] if runs else None


def under_way(context: Context) -> list[Rollout]:
    """The rollouts that have not ended. Reads."""
    return context.store.rollouts.all(state=UNDER_WAY)


def every(context: Context) -> Iterator[Standing]:
    """How each gate of each rollout under way stands. Reads."""
    for rollout in under_way(context):
        for gate in of_rollout(context, rollout):
            yield standing(context, gate)


def wanting(context: Context) -> dict[str, str]:
    """What each site waits for whose gate wants a person's word, in words. Reads."""
    return {
        member.site: f"It waits for your word: {_badly(context, state.badly)}. "
        "Unsaid in time, it goes a night later."
        for state in every(context)
        if state.wants_a_word
        for member in state.gate.before
    }


def shut(context: Context, booking: Booking) -> str:
    """What keeps a booking of a rollout from beginning now, in words; "" where nothing does."""
    if booking.rollout is None:
        return ""
    rollout, now = context.store.rollouts.get(booking.rollout), context.clock()
    for gate in of_rollout(context, rollout):
        if any(member.site == booking.site for member in gate.before):
            state = standing(context, gate)
            if state.wants_a_word:
                return f"{name(context, gate)} wants a word: {_badly(context, state.badly)}"
            if state.opens is None:
                return f"{name(context, gate)} waits for {_waits_for(context, state)}"
            if state.opens > now:
                return f"{name(context, gate)} opens {state.opens:%a %H:%M} UTC"
    return ""


def name(context: Context, gate: Gate) -> str:
    """What a gate is called: "the gate of the canaries of rollout 3"."""
    inside = name_inside(context, gate)
    return inside if _of_twin(gate) else f"{inside} of rollout {gate.rollout.id}"


def name_inside(context: Context, gate: Gate) -> str:
    """What a gate is called where its rollout is told: "the gate of Pilot House Inn's twin"."""
    if _of_twin(gate):
        return f"the gate of {context.store.sites.get(gate.id).label}’s twin"
    return in_short(gate)


def _of_twin(gate: Gate) -> bool:
    return gate.id != CANARIES and not gate.id.startswith(_WAVE)


def in_short(gate: Gate) -> str:
    """What a gate is called where its rollout and its site are told beside it."""
    if gate.id.startswith(_WAVE):
        return of_wave(gate.before[0].turn)
    return OF_CANARIES if gate.id == CANARIES else OF_ITS_TWIN


def _badly(context: Context, runs: Iterable[Run]) -> str:
    return listed([f"{context.store.sites.get(r.site).label} was {ending(r)}" for r in runs])


def _waits_for(context: Context, state: Standing) -> str:
    sites = [member.site for member in state.to_go] + [run.site for run in state.under_way]
    return listed([context.store.sites.get(site).label for site in sites])


def ending(run: Run) -> str:
    """How a run ended that did not end well: "put back", "restored", "left broken"."""
    return {"alarm": "left broken"}.get(run.state, run.state)
