"""Lockstep groups and clashes."""

from __future__ import annotations

from windbreak.core.values.ties import KnownClash, KnownLockstep, NewClash, NewLockstep
from windbreak.operations.planning import ties
from windbreak.service.routing import Router
from windbreak.service.signin import Ctx, Who

router = Router("ties")


@router.get("/lockstep")
def list_locksteps(context: Ctx, who: Who) -> list[KnownLockstep]:
    """The groups of products whose versions must match."""
    return context.store.locksteps.all()


@router.post("/lockstep", status_code=201)
def set_lockstep(context: Ctx, who: Who, new: NewLockstep) -> KnownLockstep:
    """Say that products must match: from then on no plan lets them come apart."""
    return ties.set_lockstep(context, new, who)


@router.delete("/lockstep/{id}", status_code=204)
def drop_lockstep(context: Ctx, who: Who, id: str) -> None:
    """Products need match no longer."""
    ties.drop_lockstep(context, id, who)


@router.get("/clashes")
def list_clashes(context: Ctx, who: Who) -> list[KnownClash]:
    """The pairs of products known not to work together."""
    return context.store.clashes.all()


@router.post("/clashes", status_code=201)
def add_clash(context: Ctx, who: Who, new: NewClash) -> KnownClash:
    """Say that two products don't work together: from then on no plan brings them together."""
    return ties.add_clash(context, new, who)


@router.delete("/clashes/{id}", status_code=204)
def drop_clash(context: Ctx, who: Who, id: str) -> None:
    """Two products clash no longer."""
    ties.drop_clash(context, id, who)
