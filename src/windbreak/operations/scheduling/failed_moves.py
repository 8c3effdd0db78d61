"""Moves that failed somewhere: their like waits everywhere, until a person has decided."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from windbreak.core.values.accounts import Principal
from windbreak.core.values.rollouts import FailedMove, WaitingMove
from windbreak.core.values.runs import Run
from windbreak.core.values.verdicts import PlannedStep
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.scheduling.gates import ending
from windbreak.store.errors import NotFound


def move_id(product: str, version: str) -> str:
    return f"{product} {version}"


# Only such a failure is the release's. Whatever else a step fails for (room, rights, a leftover,
# a fetch, an archive that arrived wrong, other hands) is the site's own; its like go on elsewhere.
OF_THE_RELEASE = "breaks-site"


def note(context: Context, run: Run, step: PlannedStep, code: str) -> None:
    """Write down that the moves of a step failed in a run, by a fixed failure code. Writes, within
    a transaction.
    """
    for move in step.moves if code == OF_THE_RELEASE else ():
        if move.to is None:
            continue  # that something left says nothing of a release
        context.store.failed_moves.put(
            FailedMove(
                id=move_id(move.product, move.to),
                product=move.product,
                version=move.to,
                run=run.id,
                site=run.site,
                text=f"{context.store.sites.get(run.site).label} was {ending(run)}: {run.text}",
                at=context.clock(),
            )
        )


def waiting(context: Context) -> list[FailedMove]:
    """The moves that wait for a person's word, the newest first. Reads."""
    every = context.store.failed_moves.all(open=True)
    return sorted(every, key=lambda move: move.at, reverse=True)


def against(
    context: Context, moves: Iterable[FailedMove], site: str, targets: Mapping[str, str]
) -> str:
    """Why a plan with some targets waits at a site, since one of some moves failed elsewhere; ""
    where nothing stands against it. Reads.
    """
    for move in moves:
        if move.site != site and targets.get(move.product) == move.version:
            label = context.store.sites.get(move.site).label
            what = in_words(context, [move])
            where = f"{label} (run {move.run})"
            return f"{what} failed on {where}; elsewhere it waits for your decision"
    return ""


def against_now(context: Context, site: str, targets: Mapping[str, str]) -> str:
    """The same, of all moves that wait for a word now. Reads."""
    return against(context, waiting(context), site, targets)


def by_run(context: Context) -> list[tuple[FailedMove, ...]]:
    """The moves that wait for a word, those of one step together, the newest first. Reads."""
    runs: dict[int, list[FailedMove]] = {}
    for move in waiting(context):
        runs.setdefault(move.run, []).append(move)
    return [tuple(sorted(moves, key=lambda move: move.id)) for moves in runs.values()]


def in_words(context: Context, moves: Iterable[FailedMove]) -> str:
    """What failed: "Trestle 5.1 with Breakwater 5.2"."""
    lines = []
    for move in moves:
        product = context.store.products.find(move.product)
        lines.append(f"{product.name if product else move.product} {move.version}")
    return " with ".join(lines)


def like(context: Context, moves: Iterable[FailedMove]) -> list[str]:
    """The sites that are approved to make the like of some moves, and wait. Reads."""
    booked = [b.plan for b in context.store.bookings.all(state="waiting")]
    standing = context.store.plans.standing(booked + context.store.plans.to_book())
    failed = list(moves)
    return sorted(
        {
            plan.site
            for plan in standing.values()
            for move in failed
            if plan.targets.get(move.product) == move.version and plan.site != move.site
        }
    )


def asked(context: Context) -> list[WaitingMove]:
    """The moves that wait for a word, with whom a word would let go, newest first. Reads."""
    return [
        WaitingMove(
            **vars(move),
            waits=tuple([context.store.sites.get(site).label for site in like(context, [move])]),
        )
        for move in waiting(context)
    ]


def let_go(context: Context, product: str, version: str, why: str, by: Principal) -> FailedMove:
    """Let a move be made elsewhere though it failed somewhere, and with it those that failed in the
    same step. Writes. Raises NotFound where it did not fail, Refused where somebody has decided
    already, or no reason is given.
    """
    move = context.store.failed_moves.find(move_id(product, version))
    if move is None:
        raise NotFound("failed move", move_id(product, version))
    if move.decided_by is not None:
        raise Refused("decided", f"{move.decided_by} has let {product} {version} go already")
    if not why.strip():
        raise Refused("no-reason", "give your reason for allowing it on other sites: --why")
    together = [failed for failed in waiting(context) if failed.run == move.run]
    with context.store.transaction():
        for failed in together:
            context.store.failed_moves.change(
                failed.id, decided_by=by.name, decided_at=context.clock(), why=why
            )
        what = f"{in_words(context, together)} may go on elsewhere"
        context.record(by.name, what, product, why=why, result=f"it failed in run {move.run}")
    context.tell("failed-move", product, what)
    return context.store.failed_moves.get(move.id)
