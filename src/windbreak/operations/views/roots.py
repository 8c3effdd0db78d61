"""What keeps components of a site back, told once for each root with all that it keeps."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from windbreak.core.values.basics import State
from windbreak.core.values.findings import NextAct
from windbreak.core.values.roots import Root, RootKind
from windbreak.documents.sites import RootView
from windbreak.wording.roots import keeps

# Roots that end only when somebody does something: buys, asks, decides.
WANT_SOMEBODY: tuple[RootKind, ...] = (
    "ended", "not covered", "no seat", "no licence", "offer", "undecided", "rule",
)  # fmt: skip


def grouped(
    standing: Iterable[tuple[str, State, Sequence[Root]]], names: Mapping[str, str], site: str
) -> tuple[RootView, ...]:
    """The roots of blocked components (product, state, roots), what keeps most back first. Each
    component is under one root, its first; others that it has are told apart.
    """
    blocked = [
        (product, [root for root in roots if root.kind in WANT_SOMEBODY])
        for product, state, roots in standing
        if state in ("blocked", "exposed")
    ]
    every = {root.id: root for _, roots in blocked for root in roots}
    views = []
    for id, root in every.items():
        kept = {p: next(r for r in roots if r.id == id) for p, roots in blocked if _has(roots, id)}
        first = [p for p, roots in blocked if roots and roots[0].id == id]
        if not first:
            continue
        own = [p for p, of in kept.items() if not of.through] or first
        follow = [p for p in kept if p not in own]
        carriers = {kept[p].through for p in follow}
        carrier = carriers.pop() if len(carriers) == 1 else ""
        first.sort(key=lambda p: (p not in own, p.startswith("plugin/"), p))
        views.append(
            RootView(
                id=id,
                kind=root.kind,
                text=root.text,
                keeps_text=keeps(
                    [names.get(p, p) for p in own],
                    [names.get(p, p) for p in follow],
                    names.get(carrier, "") if carrier.startswith("theme/") else "",
                ),
                keeps=tuple(first),
                ways=tuple(here(way, site) for way in root.ways),
            )
        )
    views.sort(key=lambda view: (-len(view.keeps), view.text))
    return tuple(views)


def _has(roots: Iterable[Root], id: str) -> bool:
    return any(root.id == id for root in roots)


def here(way: NextAct, site: str) -> NextAct:
    """An act that is kept for all sites of a situation, told of one."""
    return way.model_copy(update={"on": {**way.on, "site": site}})
