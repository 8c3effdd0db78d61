"""What wants attention, as one queue: each finding opens once and closes when its cause is gone."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime, time, timedelta

from windbreak.core.candidates import SoakExclusion
from windbreak.core.explain import Answer, Blocked, counted, day
from windbreak.core.fleet import Site
from windbreak.core.work import Finding, NextAct, Weight
from windbreak.operations import reasoning
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused

WENT_WRONG = ("put back", "restored", "alarm")
_WEIGHTS: tuple[Weight, ...] = ("critical", "high", "medium", "low")


def listed(context: Context) -> list[Finding]:
    """The open findings, most urgent first. Reads."""
    far = datetime.max.replace(tzinfo=UTC)
    return sorted(
        context.store.findings.all(),
        key=lambda f: (_WEIGHTS.index(f.weight), f.deadline or far, f.subject_label, f.id),
    )


def look_again(context: Context) -> list[Finding]:
    """Open what is new, keep what still holds, close what is gone. Writes."""
    found = {f.id: f for f in _all(context)}
    with context.store.transaction():
        kept = {f.id: f for f in context.store.findings.all()}
        for id in kept.keys() - found.keys():
            context.store.findings.drop(id)
        for id, finding in found.items():
            if id in kept:
                finding = finding.model_copy(update={"opened_at": kept[id].opened_at})
            if kept.get(id) != finding:
                context.store.findings.put(finding)
    if kept.keys() != found.keys():
        context.tell("finding", "", f"{len(found)} findings")
    return listed(context)


def _all(context: Context) -> Iterator[Finding]:
    soaking: dict[tuple[str, str], tuple[SoakExclusion, str, list[Site]]] = {}
    for site in context.store.sites.all():
        yield from _of_link(context, site)
        wrong = list(_of_run(context, site))
        yield from wrong
        try:
            case = reasoning.case_of(context, site.id)
        except Refused:
            continue
        answer = reasoning.reason(case).answer
        if not wrong:  # what went wrong is looked at before more is offered
            yield from _of_plan(context, site, answer)
        for verdict in answer.verdicts:
            if verdict.blocked is None:
                continue
            for told in verdict.blocked.reasons:
                if isinstance(told.reason, SoakExclusion):
                    key = verdict.product, verdict.blocked.version
                    label = case.label(verdict.product)
                    soaking.setdefault(key, (told.reason, label, []))[2].append(site)
                elif told.reason.kind in ("licence", "offer"):
                    yield _finding(
                        context,
                        f"{told.reason.kind}:{site.id}:{verdict.product}",
                        told.reason.kind,
                        "blocked",
                        "medium",
                        site,
                        f"**{site.label}**: {verdict.blocked.text}",
                        _what_helps(verdict.blocked),
                        NextAct(
                            label="See the site",
                            command=f"windbreak why {site.id} {verdict.product}",
                            path=f"/sites/{site.id}",
                        ),
                    )
    for (product, version), (soak, label, sites) in sorted(soaking.items()):
        yield _of_soak(context, product, version, soak, label, sites)
    yield from _of_feeds(context)
    yield from _of_bookings(context)


def _what_helps(blocked: Blocked) -> str:
    if not blocked.unblock:
        return "No one, two or three acts that were tried would change it."
    return f"What would help: {'; or: '.join(s.text for s in blocked.unblock)}."


def _finding(
    context: Context,
    id: str,
    kind: str,
    state: str,
    weight: Weight,
    site: Site | None,
    headline: str,
    text: str,
    act: NextAct,
    deadline: datetime | None = None,
) -> Finding:
    return Finding.model_validate(
        {
            "id": id,
            "kind": kind,
            "state": state,
            "weight": weight,
            "subject": site.id if site else id.partition(":")[2],
            "subject_label": site.label if site else "",
            "headline": headline,
            "text": text,
            "act": act,
            "opened_at": context.clock(),
            "deadline": deadline,
        }
    )


def _of_link(context: Context, site: Site) -> Iterator[Finding]:
    link = site.link
    if link.state == "linked":
        return
    said = {
        "down": ("failed", "high", "is down", "Ask its host"),
        "silent": ("unknown", "medium", "is silent: its pages answer, its agent does not", "Look"),
        "refused": ("unknown", "medium", "refuses our key", "Make a new line"),
        "unlinked": ("unknown", "low", "is not linked", "Link it"),
    }[link.state]
    state, weight, words, act = said
    command = "refresh" if link.state in ("down", "silent") else "link"
    yield _finding(
        context,
        f"link:{site.id}",
        "link",
        state,
        "high" if weight == "high" else "medium" if weight == "medium" else "low",
        site,
        f"**{site.label}** {words}.",
        link.reason,
        NextAct(
            label=act,
            command=f"windbreak site {command} {site.id}",
            path=f"/sites/{site.id}",
        ),
    )


def _of_run(context: Context, site: Site) -> Iterator[Finding]:
    last = context.store.runs.all(site=site.id, newest_first=True, limit=1)
    if not last or last[0].state not in WENT_WRONG:
        return
    run = last[0]
    words = {
        "put back": "a step went wrong and was put back",
        "restored": "a step went wrong; the snapshot was restored",
        "alarm": "a run needs you",
    }[run.state]
    yield _finding(
        context,
        f"run:{site.id}",
        "run",
        "failed",
        "critical" if run.state == "alarm" else "high",
        site,
        f"**{site.label}**: {words}.",
        run.text,
        NextAct(
            label="Open the run",
            command=f"windbreak run show {run.id}",
            path=f"/runs/{run.id}",
        ),
    )


def _of_plan(context: Context, site: Site, answer: Answer) -> Iterator[Finding]:
    moving = [v for v in answer.verdicts if v.outcome in ("move", "part", "add")]
    approved = any(p.state == "approved" for p in context.store.plans.all(site=site.id))
    if not moving or approved or site.link.state != "linked":
        return
    count = counted(len(moving), "move")
    yield _finding(
        context,
        f"ready:{site.id}",
        "ready",
        "ready",
        "low",
        site,
        f"**{site.label}** has {count} ready.",
        "Nothing stands in the way; they need your word.",
        NextAct(
            label="See the plan",
            command=f"windbreak plan {site.id}",
            path=f"/sites/{site.id}/plan",
        ),
    )


def _of_soak(
    context: Context,
    product: str,
    version: str,
    soak: SoakExclusion,
    label: str,
    sites: list[Site],
) -> Finding:
    release = context.store.releases.find(context.store.release_id(product, version))
    kinds = [c.kind for c in release.changes] if release else []
    breaking = kinds.count("breaking")
    changed = f"{len(kinds)} changes are told" if kinds else "No changes are told"
    changed += f", {breaking} of them breaking." if breaking else "."
    where = "1 site waits" if len(sites) == 1 else f"{len(sites)} sites wait"
    return _finding(
        context,
        f"soak:{product}@{version}",
        "soak",
        "waiting",
        "low",
        None,
        f"**{label}** `{version}` is out, a {soak.soak_class} release. "
        f"It soaks until {day(soak.over, context.clock().date())}.",
        f"{changed} {where} for it.",
        NextAct(
            label="Read what changed",
            command=f"windbreak product show {product}",
            path=f"/products/{product}",
        ),
        datetime.combine(soak.over, time(), tzinfo=UTC),
    )


def _of_feeds(context: Context) -> Iterator[Finding]:
    for feed in context.store.feeds.all():
        act = NextAct(label="Check it", command=f"windbreak feed check {feed.id}", path="/licences")
        if feed.state in ("failing", "refused"):
            yield _finding(
                context,
                f"feed:{feed.id}",
                "feed",
                "blocked",
                "medium",
                None,
                f"**{feed.label}** can't be read.",
                f"{feed.reason} What was known before stands.",
                act,
            )
        elif feed.check is not None and (feed.check.lacks or not feed.check.valid):
            lacks = ", ".join(f"`{p}`" for p in feed.check.lacks)
            yield _finding(
                context,
                f"credential:{feed.id}",
                "credential",
                "blocked",
                "low",
                None,
                f"**{feed.label}**’s token lacks {lacks}."
                if feed.check.valid
                else f"**{feed.label}** refuses our token.",
                feed.check.text,
                act,
            )


def _of_bookings(context: Context) -> Iterator[Finding]:
    since = context.clock() - timedelta(days=7)
    for booking in context.store.bookings.all(state="missed"):
        if booking.starts_at < since:
            continue
        plan = context.store.plans.get(booking.plan)
        if plan.state != "approved":
            continue
        site = context.store.sites.get(booking.site)
        yield _finding(
            context,
            f"missed:{booking.id}",
            "missed",
            "failed",
            "high",
            site,
            f"**{site.label}**: a booking was missed.",
            "The service was not running, or the site was busy, for four hours. Book it again.",
            NextAct(
                label="Book it again",
                command=f"windbreak book {booking.plan}",
                path=f"/sites/{site.id}/plan",
            ),
        )
