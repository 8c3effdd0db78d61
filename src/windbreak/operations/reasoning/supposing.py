"""What if: a site's outlook with acts taken as done, and the acts of the fleet by what they free.

Nothing here writes: a supposed act changes a copy of the case, and the reasoning is asked again.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from datetime import date
from functools import partial

from windbreak.core.case.catalogue import Catalogue
from windbreak.core.case.situation import Case
from windbreak.core.explanation.acts import applied
from windbreak.core.fleet import key_of_day, spread
from windbreak.core.values.findings import NextAct
from windbreak.core.values.reasons import Act
from windbreak.core.values.sites import Site
from windbreak.core.values.verdicts import ActSet, Answer, Verdict
from windbreak.core.versions.ranges import parse_range
from windbreak.core.versions.version import parse_version
from windbreak.documents.outlook import ActRow, Alike, Difference, FreedMove, Outlook, Supposed
from windbreak.documents.sites import Helps
from windbreak.operations.context import Context, aside
from windbreak.operations.errors import Refused
from windbreak.operations.reasoning import answers, cases, catalogue
from windbreak.operations.reasoning.explaining import explained
from windbreak.wording import roots as words
from windbreak.wording.answers import Asked, answered
from windbreak.wording.reasons import tell_act

_WORTH_SENDING = 100  # sites; of fewer, the acts are told sooner than a worker may be free

FORMS = (
    "offer PRODUCT VERSION [on HOST]",
    "licence PRODUCT [on SITE]",
    "shelf PRODUCT VERSION [on SITE]",
    "lift-hold PRODUCT [on SITE]",
    "remove PRODUCT [on SITE]",
    "activate PRODUCT [on SITE]",
    "channel preview [on SITE]",
    "wait DATE",
)


def read(context: Context, text: str) -> Supposed:
    """A supposed act as people write it: "offer loom 8.1 on jetty". Reads.

    Raises Refused with what would be right.
    """
    asked, _, place = (part.strip() for part in text.strip().rpartition(" on "))
    if not asked:
        asked, place = text.strip(), ""
    verb, *words = asked.split() or [""]
    compiled_now = catalogue.compiled(context)
    try:
        act = _act(compiled_now, verb.lower(), words)
    except (ValueError, IndexError):
        raise Refused(
            "unknown-act", f"{text!r} is no act; write it as one of: {'; '.join(FORMS)}"
        ) from None
    host = site = None
    where = ""
    if place and act.act == "offer":
        hosts = {h.id: h.name for h in context.store.hosts.all()}
        host = _named(place, hosts, "host")
        where = f" on {hosts[host]}"
    elif place:
        sites = {s.id: s.label for s in context.store.sites.all()}
        site = _named(place, sites, "site")
        where = f" on {sites[site]}"
    sentence = tell_act(compiled_now, context.clock().date(), act)
    return Supposed(act=act, host=host, site=site, text=f"{sentence}{where}")


def _act(catalogue: Catalogue, verb: str, words: list[str]) -> Act:
    if verb == "wait":
        return Act(act="wait", until=date.fromisoformat(words[-1]))
    if verb == "channel" and words == ["preview"]:
        return Act(act="channel", channel="preview")
    if verb in ("offer", "shelf"):
        product = _product(catalogue, " ".join(words[:-1]))
        version = parse_version(words[-1])
        line = catalogue.line(product)
        number = line.number(version)
        if not number:
            newest = f"; the newest is {line.versions[-1]}" if line.versions else ""
            raise Refused(
                "unknown-release", f"no feed tells of {catalogue.label(product)} {version}{newest}"
            )
        if verb == "offer" and not line.is_runtime:
            raise Refused(
                "no-runtime", f"{catalogue.label(product)} is no runtime: no host offers it"
            )
        version_text = line.releases[number - 1].version
        return Act.model_validate({"act": verb, "product": product, "version": version_text})
    if verb in ("licence", "lift-hold", "remove", "activate"):
        return Act.model_validate({"act": verb, "product": _product(catalogue, " ".join(words))})
    raise ValueError(verb)


def _product(catalogue: Catalogue, name: str) -> str:
    if not name:
        raise ValueError(name)
    wanted = name.casefold()
    for id, product in sorted(catalogue.products.items()):
        if wanted in (id, id.partition("/")[2], product.label.casefold()):
            return id
    raise Refused("unknown-product", f"no product is called {name!r}; see `windbreak product list`")


def _named(name: str, labels: dict[str, str], what: str) -> str:
    wanted = re.sub(r"[^a-z0-9]+", "-", name.casefold()).strip("-")
    ids = [id for id in sorted(labels) if id == wanted] or [
        id
        for id, label in sorted(labels.items())
        if id.startswith(wanted) or name.casefold() in label.casefold()
    ]
    if not ids:
        raise Refused(f"unknown-{what}", f"no {what} is called {name!r}; there are: "
                      f"{', '.join(sorted(labels)[:12])}")  # fmt: skip
    return ids[0]


def _with(case: Case, site: Site, supposed: Iterable[Supposed]) -> Case:
    """A case with those acts done that touch its site."""
    acts = [s.act for s in supposed if s.host in (None, site.host) and s.site in (None, site.id)]
    day = case.day
    return applied(case, [a for a in acts if a.until is None or a.until > day])


def outlook(context: Context, id: str, texts: Sequence[str] = ()) -> Outlook:
    """A site's verdicts and plan as they would be. Reads. Raises Refused, NotFound."""
    site = context.store.sites.get(id)
    supposed = [
        s.model_copy(update={"here": s.host in (None, site.host) and s.site in (None, site.id)})
        for s in (read(context, text) for text in texts)
    ]
    case, ground = cases.case_of(context, id), cases.Ground.read(context)
    now = explained(ground, site, answers.reason(context, case))
    then = now
    if supposed:
        then = explained(ground, site, answers.reason(context, _with(case, site, supposed)))
    return Outlook(
        site=id,
        label=site.label,
        supposed=tuple(supposed),
        answer=then.answer,
        plan=then.plan,
        changes=tuple(_changes(case, now.answer, then.answer)),
        situation=then.key,
        reasoned_at=then.made_at,
    )


def _changes(case: Case, now: Answer, then: Answer) -> Iterable[Difference]:
    before = {v.product: v for v in now.verdicts}
    after = {v.product: v for v in then.verdicts}
    for product in sorted(before.keys() | after.keys()):
        old, new = before.get(product), after.get(product)
        ends = [v.to if v else None for v in (old, new)]
        if ends[0] == ends[1]:
            continue
        name = case.label(product)
        start = next(v.from_ for v in (old, new) if v is not None)
        if new is None:
            text = f"{name} would be gone."
        elif ends[1] is None:
            text = f"{name} would stay absent, and not join at {ends[0]}."
        else:
            text = f"{name} would go to {ends[1]}, not {ends[0] or 'stay absent'}."
            if start == ends[0]:
                text = f"{name} would go to {ends[1]}; now it stays at {start}."
        yield Difference(
            product=product, name=name, version=start, to=ends[0], instead=ends[1], text=text
        )


def acts(context: Context, texts: Sequence[str] = (), product: str | None = None) -> list[ActRow]:
    """The acts that would free something, or a product's move, what frees most first. Reads.

    Each set of acts that the reasoning names for some site is tried on every site it would
    touch, and the moves that come with it are counted. Waiting alone is nobody's act.
    """
    key = (context.store.database.generation(), context.clock().date(), tuple(texts))

    def made(_: list[ActRow] | None) -> list[ActRow]:
        supposed = [read(context, text) for text in texts]
        if context.store.sites.count(retired=False) < _WORTH_SENDING:
            return _ranked(context, supposed)
        return aside(context, _ranked, supposed)

    rows = context.cache.kept("acts", key, made)
    return [r for r in rows if product is None or any(f.product == product for f in r.frees)]


def _ranked(context: Context, supposed: Sequence[Supposed]) -> list[ActRow]:
    return _Fleet(context, supposed).ranked()


class _Fleet:
    """Every site that stands in need of an act, with its case and what becomes of it now."""

    def __init__(self, context: Context, supposed: Sequence[Supposed]) -> None:
        self.context = context
        self.compiled = catalogue.compiled(context)
        self.answers: dict[str, Answer] = {}
        self.sites: dict[str, Site] = {}
        self.cases: dict[str, Case] = {}
        self.now: dict[str, Answer] = {}
        ground = cases.Ground.read(context)
        for site in context.store.sites.live():
            inventory = context.store.inventories.find(site.id)
            if inventory is not None:
                self.sites[site.id] = site
                self.cases[site.id] = _with(ground.case(site, inventory), site, supposed)
        for id, case in self.cases.items():
            reasoned = answers.reason(context, case)
            self.now[id] = explained(ground, self.sites[id], reasoned).answer

    def ranked(self) -> list[ActRow]:
        """The rows, what frees most first; sets that are one purchase or request are one row."""
        rows: dict[tuple[str, ...], dict[str, _Wanted]] = {}
        for id, answer in self.now.items():
            for verdict in answer.verdicts:
                for act_set in verdict.blocked.unblock if verdict.blocked else ():
                    if any(way.act != "wait" for way in act_set.ways):
                        here = rows.setdefault(_of_any_site(act_set.ways), {})
                        here.setdefault(id, _Wanted()).add(act_set)
        moving = [row for wanted in rows.values() if (row := self._row(wanted)).moves]
        moving.sort(key=lambda r: (-r.moves, -r.security, -len(r.sites), len(r.ways), r.text))
        return list(_without_repeats(moving))

    def _row(self, wanted: dict[str, _Wanted]) -> ActRow:
        acts = {id: tuple(case.acts) for id, case in wanted.items()}
        hosts = {
            way.on["host"] for case in wanted.values() for way in case.ways if "host" in way.on
        }
        if hosts:  # what a host is asked for comes to all its sites
            every = next(iter(acts.values()))
            acts = {i: every for i, s in self.sites.items() if s.host in hosts}
        then = {id: applied(self.cases[id], some) for id, some in acts.items()}
        answers = self._answers(then)
        frees = [move for id in then for move in self._freed(id, self.now[id], answers[id])]
        ways = tuple({str(w.on): w for case in wanted.values() for w in case.ways}.values())
        leads = {self.sites[id].twin_of or id for id in wanted}
        text = words.fleet_text(next(iter(wanted.values())).ways, len(leads))
        supposed = dict.fromkeys(a for some in acts.values() for a in some)
        return ActRow(
            ways=ways,
            times=len(leads) if any(words.is_for_each(way) for way in ways) else 1,
            text=text,
            moves=len(frees),
            security=sum(f.security for f in frees),
            sites=tuple(sorted({f.site for f in frees})),
            frees=tuple(frees),
            suppose=tuple(
                _written(a, next(iter(hosts), None) if a.act == "offer" else None) for a in supposed
            ),
        )

    def _answers(self, cases: dict[str, Case]) -> dict[str, Answer]:
        keys, wanted = {}, {}
        for id, case in cases.items():
            lean = self.compiled.lean(case)
            keys[id] = key_of_day(lean)
            if keys[id] not in self.answers:
                wanted[keys[id]] = lean
        answers = spread(self.compiled, wanted, partial(answered, asked=Asked()))
        self.answers |= {key: result.answer for key, result in answers.items()}
        return {id: self.answers[key] for id, key in keys.items()}

    def _freed(self, id: str, now: Answer, then: Answer) -> Iterable[FreedMove]:
        before = {v.product: v.to for v in now.verdicts}
        for verdict in then.verdicts:
            old = before.get(verdict.product)
            if verdict.to is None or verdict.to == old or not _up(old, verdict):
                continue
            yield FreedMove(
                site=id,
                label=self.sites[id].label,
                product=verdict.product,
                name=self.cases[id].label(verdict.product),
                version=verdict.to,
                security=self._closes(id, verdict, old),
            )

    def _closes(self, id: str, verdict: Verdict, old: str | None) -> bool:
        if old is None or verdict.to is None:
            return False
        now, then = parse_version(old), parse_version(verdict.to)
        return any(
            now in parse_range(a.affected) and then not in parse_range(a.affected)
            for a in self.cases[id].advisories
            if a.product == verdict.product
        )


def _without_repeats(rows: Iterable[ActRow]) -> Iterable[ActRow]:
    """The rows without those that free just the same as one before: they are named with it."""
    first: dict[tuple[FreedMove, ...], ActRow] = {}
    for row in rows:
        earlier = first.get(row.frees)
        if earlier is None:
            first[row.frees] = row
        else:
            alike = (*earlier.alike, Alike(ways=row.ways, text=row.text))
            first[row.frees] = earlier.model_copy(update={"alike": alike})
    return first.values()


class _Wanted:
    """What one row's ways are at one site: the acts they come to, and their operations."""

    def __init__(self) -> None:
        self.acts: dict[Act, None] = {}
        self.ways: tuple[NextAct, ...] = ()

    def add(self, act_set: ActSet) -> None:
        self.acts |= dict.fromkeys(act_set.acts)
        self.ways = self.ways or act_set.ways


def _of_any_site(ways: Iterable[NextAct]) -> tuple[str, ...]:
    """What is equal for the same purchase, request or decision, whichever site asks for it."""
    return tuple(sorted(" ".join([way.act, *_beside_the_site(way)]) for way in ways))


def _beside_the_site(way: NextAct) -> Iterable[str]:
    covered = "licence" in way.on  # then the product is one of several that it covers
    for name, value in sorted(way.on.items()):
        if name != "site" and not (covered and name == "product"):
            yield f"{name}={value}"


def _up(old: str | None, verdict: Verdict) -> bool:
    assert verdict.to is not None  # the caller has looked
    if verdict.product.startswith("runtime/"):
        return False  # a runtime moves for the sake of others: it is a means, not a gain
    return old is None or parse_version(verdict.to) > parse_version(old)


def helps(verdict: Verdict, site: Site) -> tuple[Helps, ...]:
    """The acts that would bring a component of a site on, in words and as ``if`` takes them."""
    return tuple(
        Helps(
            text=act_set.text,
            ways=act_set.ways,
            brings=act_set.brings,
            suppose=tuple(
                _written(a, site.host if a.act == "offer" else site.id) for a in act_set.acts
            ),
        )
        for act_set in (verdict.blocked.unblock if verdict.blocked else ())
    )


def _written(act: Act, place: str | None) -> str:
    """An act in the words that ``read`` takes."""
    if act.act == "wait":
        return f"wait {act.until}"
    slug = (act.product or act.channel or "").partition("/")[2] or act.channel or ""
    words = [act.act, slug, *([act.version] if act.version else [])]
    return " ".join(words) + (f" on {place}" if place else "")
