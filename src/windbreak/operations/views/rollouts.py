"""Rollouts as they are read: waves, gates, and who is not in them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from windbreak.core.values.bookings import Booking
from windbreak.core.values.rollouts import Member, Rollout
from windbreak.core.values.runs import Run
from windbreak.core.values.sites import Site
from windbreak.documents.rollouts import (
    FailedElsewhere,
    GateState,
    GateView,
    MemberView,
    RolloutStory,
)
from windbreak.operations.context import Context
from windbreak.operations.scheduling import failed_moves, gates, timetables
from windbreak.wording.words import counted


def story(context: Context, id_: int) -> RolloutStory:
    """A rollout whole. Reads. Raises NotFound."""
    rollout = context.store.rollouts.get(id_)
    ids = {member.site for member in rollout.members}
    sites = {site.id: site for site in context.store.sites.all(id=ids)} if ids else {}
    left = {job["plan"]: str(job["text"]) for job in timetables.left_out(context)}
    wanting = gates.wanting(context)
    moved = {(p, v) for m in rollout.going for p, v in m.targets.items()}
    members = tuple(_member(context, m, sites[m.site], left, wanting) for m in rollout.members)
    return RolloutStory(
        rollout=rollout,
        title=title(context, rollout),
        standing=_standing(members),
        members=members,
        gates=tuple(_gate(context, gate) for gate in gates.of_rollout(context, rollout)),
        failed=tuple(
            FailedElsewhere(
                what=failed_moves.in_words(context, moves),
                product=moves[0].product,
                version=moves[0].version,
                run=moves[0].run,
                text=moves[0].text,
            )
            for moves in failed_moves.by_run(context)
            if any((move.product, move.version) in moved for move in moves)
        ),
        stays_out=rollout.stays_out,
        at=context.clock(),
    )


def _standing(members: Sequence[MemberView]) -> str:
    """How many of the sites are done, and how the others stand: "3 of 27 sites are done, 24 are
    booked."
    """
    counts = Counter(member.state for member in members)
    of = len(members) - counts.pop("left out", 0)
    done = counts.pop("done", 0)
    parts = [f"{done} of {counted(of, 'site')} {_are(done)} done"]
    if failed := counts.pop("failed", 0):
        parts.append(f"{failed} failed")
    parts += [f"{count} {_are(count)} {state}" for state, count in counts.items()]
    return f"{', '.join(parts)}."


def _are(count: int) -> str:
    return "is" if count == 1 else "are"


def title(context: Context, rollout: Rollout) -> str:
    """What a rollout is called: "Millrace 6.4.3 for the fleet"."""
    where = rollout.where
    if len(rollout.sites) == 1 and rollout.named in ("", rollout.sites[0]):
        where = context.store.sites.get(rollout.sites[0]).label
    if rollout.product is None:
        return f"{rollout.what[:1].upper()}{rollout.what[1:]}, for {where}"
    product = context.store.products.find(rollout.product)
    return f"{product.name if product else rollout.product} {rollout.version} for {where}"


def _member(
    context: Context, member: Member, site: Site, left: dict[int, str], wanting: dict[str, str]
) -> MemberView:
    run = gates.run_of(context, member)
    bookings = context.store.bookings.all(plan=member.plan, state="waiting") if member.plan else []
    booking = bookings[0] if bookings else None
    standing = _stands(member, run, booking, left.get(member.plan or 0, ""))
    return MemberView(
        site=site.id,
        label=site.label,
        host=site.host,
        wave=member.wave,
        moves=len(member.targets),
        covers=member.covers,
        urgent=member.urgent,
        turn=member.turn,
        plan=member.plan,
        booking=booking.id if booking else None,
        run=run.id if run else None,
        at=run.started_at if run else booking.starts_at if booking else None,
        why=wanting.get(site.id, booking.why) if booking else "",
        **standing,
    )


def _stands(member: Member, run: Run | None, booking: Booking | None, left: str) -> dict[str, str]:
    if member.out:
        return {"state": "left out", "text": member.out}
    if run is not None and run.ended_at is None:
        return {"state": "running", "text": run.text}
    if run is not None and run.state == "done":
        return {"state": "done", "text": "as before", "ending": "as before"}
    if run is not None:
        return {"state": "failed", "text": run.text, "ending": gates.ending(run)}
    if booking is not None:
        return {"state": "booked", "text": ""}
    return {"state": "to be booked", "text": left}


def _gate(context: Context, gate: gates.Gate) -> GateView:
    standing, now = gates.standing(context, gate), context.clock()
    state, text = _gate_text(context, standing)
    if standing.opens is not None and standing.opens > now:
        state, text = "quiet", "All as before; its quiet time runs."
    return GateView(
        id=gate.id,
        label=label_of(context, gate),
        state=state,
        text=text,
        opens=standing.opens if standing.opens != gates.ALWAYS else None,
        quiet_since=standing.quiet_since,
        after=tuple(member.site for member in gate.after),
        before=tuple(member.site for member in gate.before),
    )


def label_of(context: Context, gate: gates.Gate) -> str:
    """What a gate is called beside its rollout: "Canaries", "Twin of Pilot House Inn"."""
    if gate.id == gates.CANARIES:
        return "Canaries"
    if gate.before[0].wave == "rest" and gate.after[0].wave == "rest":
        return f"Wave {gate.after[0].turn}"
    return f"Twin of {context.store.sites.get(gate.id).label}"


def _gate_text(context: Context, standing: gates.Standing) -> tuple[GateState, str]:
    done, of = len(standing.well), len(standing.gate.after)
    if standing.wants_a_word:
        bad = [
            f"{context.store.sites.get(r.site).label} was {gates.ending(r)}" for r in standing.badly
        ]
        return "wants a word", f"{'; '.join(bad)}. {done} of {of} are as before."
    if standing.to_go or standing.under_way:
        hours = standing.gate.quiet.total_seconds() / 3600
        return "waits", f"{done} of {of} are done. It opens {hours:g} h after the last."
    word = next(
        (w for w in reversed(standing.gate.rollout.words) if w.gate == standing.gate.id), None
    )
    if standing.badly and word is not None:
        return "open", f"Opened by {word.by}: {word.why or 'no reason was given'}."
    return "open", f"{done} of {of} as before, and the quiet time is over."
