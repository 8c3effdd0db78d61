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
        first = [product for product, roots in blocked if roots and roots[0].id == id]
        later = [p for p, roots in blocked if p not in first and any(r.id == id for r in roots)]
        if not first:
            continue
        themes = [p for p in first if not p.startswith("plugin/")]
        covered = set(themes) | {p for p in first if _is_covered(root, p, themes)}
        own = [p for p in first if p in covered] or first
        with_them = [p for p in (*first, *later) if p not in own]
        labels = [[names.get(p, p) for p in part] for part in (own, with_them)]
        views.append(
            RootView(
                id=id,
                kind=root.kind,
                text=root.text,
                keeps_text=keeps(*labels),
                keeps=tuple(first),
                ways=tuple(here(way, site) for way in root.ways),
            )
        )
    views.sort(key=lambda view: (-len(view.keeps), view.text))
    return tuple(views)


def _is_covered(root: Root, product: str, themes: Sequence[str]) -> bool:
    """Whether a root keeps a plugin back by itself, and not by way of a theme that carries it."""
    return not themes or any(way.on.get("product") == product for way in root.ways)


def here(way: NextAct, site: str) -> NextAct:
    """An act that is kept for all sites of a situation, told of one."""
    return way.model_copy(update={"on": {**way.on, "site": site}})
