"""Sites: registered, linked by a key, refreshed, and why one can't be reached."""

from __future__ import annotations

import base64
import hashlib
import hmac
import json
import logging
import re
import secrets
from collections.abc import Iterator, Sequence
from datetime import timedelta

from windbreak.core.values.accounts import Principal
from windbreak.core.values.inventories import Inventory
from windbreak.core.values.matters import DebtKind
from windbreak.core.values.sites import (
    Host,
    Link,
    LinkCode,
    LinkState,
    NewSite,
    Site,
    Window,
    WindowsOf,
)
from windbreak.core.values.visits import Visit
from windbreak.links import signing
from windbreak.links.adapter import Agent
from windbreak.links.errors import (
    ClockOff,
    KeyRefused,
    LinkError,
    NotTheAgent,
    Superseded,
    Unfit,
    clock_text,
)
from windbreak.links.systems import SYSTEMS
from windbreak.operations.addresses import IN_A_SITES, refuse_secrets
from windbreak.operations.administration import instance
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.runs import debts, errands
from windbreak.operations.sites import clients, inventories, visits
from windbreak.outside.at_once import at_once
from windbreak.wording.words import listed

log = logging.getLogger("windbreak.sites")

CODE_GOOD = timedelta(hours=1)
_CLOCK_TOLD = 5  # seconds from which a difference of clocks is told


def put_host(context: Context, host: Host, by: Principal) -> Host:
    """Register a host or change one. Writes."""
    if context.store.hosts.find(host.id) == host:
        return host
    kept = context.store.hosts.put(host)
    context.record(by.name, f"host {host.name} set", host.id)
    context.tell("host", host.id, "set")
    return kept


def drop_host(context: Context, id: str, by: Principal) -> None:
    """Forget a host. Writes. Raises Refused while sites are on it, retired ones aside."""
    host = context.store.hosts.get(id)
    on_it = [s.label for s in context.store.sites.all(host=id) if s.retired_at is None]
    if on_it:
        named = listed(on_it[:4]) + (f" and {len(on_it) - 4} more" if len(on_it) > 4 else "")
        raise Refused("host-in-use", f"{named} {'is' if len(on_it) == 1 else 'are'} on {host.name}")
    with context.store.transaction():
        context.store.hosts.drop(id)
        context.record(by.name, f"host {host.name} dropped", id)
    context.tell("host", id, "dropped")


def register(context: Context, new: NewSite, by: Principal, id: str | None = None) -> Site:
    """Register a site; its id is made from the label unless one is given. Writes.

    Raises Refused when the address is taken, or the host or the twin's site is not known.
    """
    refuse_secrets(new.address, IN_A_SITES)
    slug = id or re.sub(r"[^a-z0-9]+", "-", new.label.lower()).strip("-") or "site"
    other = context.store.sites.at(new.address)
    if other is not None:
        raise Refused("address-taken", f"{new.address} is {other.label} already")
    if new.host is not None and context.store.hosts.find(new.host) is None:
        raise Refused("unknown-host", f"there is no host {new.host!r}; add it first")
    if new.twin_of is not None:
        production = context.store.sites.get(new.twin_of)
        if new.environment == "production":
            raise Refused("twin-in-production", "a twin is a staging or development copy")
        if production.retired_at is not None:
            raise Refused("retired", f"{production.label} is retired; it needs no twin")
        if context.store.sites.all(twin_of=new.twin_of):
            raise Refused("has-a-twin", f"{production.label} has a twin already")
    site = Site(id=slug, **dict(new))
    with context.store.transaction():
        context.store.sites.add(site)
        context.record(by.name, f"{site.label} registered", slug, result=site.address)
    context.tell("site", slug, "registered")
    return site


def set_windows(
    context: Context, site: str, windows: tuple[Window, ...], timezone: str, by: Principal
) -> Site:
    """Set the hours in which a site may be worked on. Writes."""
    changed = context.store.sites.change(site, windows=windows, timezone=timezone)
    context.record(by.name, f"{changed.label}: window set", site)
    return changed


def set_windows_of(context: Context, where: WindowsOf, by: Principal) -> tuple[Site, ...]:
    """Set the hours of all sites of a client, or on a host, at once. Writes. Raises NotFound."""
    if where.host is not None:
        context.store.hosts.get(where.host)
    clients.check(context, where.client)
    sites = [
        site
        for site in context.store.sites.live()
        if (where.host is None or site.host == where.host)
        and (where.client is None or site.client == where.client)
    ]
    with context.store.transaction():
        return tuple(
            set_windows(context, site.id, where.windows, where.timezone or site.timezone, by)
            for site in sites
        )


def link_line(context: Context, site_id: str, by: Principal) -> LinkCode:
    """The one line for a site's agent: our public key and a one-time code. Writes."""
    site = context.store.sites.get(site_id)
    if site.retired_at is not None:
        raise Refused("retired", f"{site.label} is retired; register it anew to work on it")
    code = secrets.token_urlsafe(24)
    until = context.clock() + CODE_GOOD
    context.store.agents.set_code(site_id, code, until)
    handed_over = json.dumps({"key": signing.public_text(instance.key(context)), "code": code})
    line = "windbreak-link." + base64.urlsafe_b64encode(handed_over.encode()).decode().rstrip("=")
    context.record(by.name, f"line for {site.label}'s agent made", site_id)
    where = f"{site.address}{SYSTEMS[site.system].owners_page}"
    return LinkCode(line=line, good_until=until, where=where)


def link(context: Context, site_id: str, by: Principal) -> Site:
    """Ask the agent for its key under the code that was pasted there. Writes.

    Raises Refused when there is no good code, or the agent's proof does not fit it.
    """
    instance.must_drive(context)
    site = context.store.sites.get(site_id)
    code = context.store.agents.code(site_id)
    if code is None or code[1] < context.clock():
        raise Refused(
            "no-link-code",
            f"no line is in use for {site.label}; make one with `windbreak site link {site_id}`",
        )
    agent = _agent_of(context, site, None)
    nonce = secrets.token_urlsafe(18)
    try:
        hello = agent.hello(nonce, site_id)
    except KeyRefused as error:
        raise Refused(
            "line-not-pasted",
            f"the agent of {site.label} does not know our key: paste the line into it first, "
            f"at {site.address}{SYSTEMS[site.system].owners_page}",
        ) from error
    except LinkError as error:
        raise Refused("agent-not-linked", f"{site.label}: {error}") from error
    text = f"{hello.agent_id}.{hello.public_key}.{nonce}".encode()
    proof = hmac.new(code[0].encode(), text, hashlib.sha256).hexdigest()
    if not hmac.compare_digest(proof, hello.proof):
        raise Refused(
            "wrong-code",
            f"the agent at {site.address} was given another line than this one; paste it again",
        )
    bound = context.store.agents.site_of(hello.agent_id)
    if bound is not None and bound != site_id:
        other = context.store.sites.get(bound)
        raise Refused(
            "agent-elsewhere",
            f"this agent answers for {other.label} at {other.address} already: {site.label} "
            "is a copy of it. On the agent’s page of the copy, give it an id of its own; then "
            "paste a new line",
        )
    now = context.clock()
    link = Link(
        state="linked",
        reason="Its agent answers.",
        since=now,
        looked_at=now,
        agent_id=hello.agent_id,
        agent_version=hello.agent_version,
        agent_can=hello.can,
    )
    with context.store.transaction():
        context.store.agents.set_key(site_id, hello.agent_id, hello.public_key)
        changed = context.store.sites.change(site_id, link=link)
        context.record(by.name, f"{site.label} linked", site_id, result=f"agent {hello.agent_id}")
    context.tell("site", site_id, "linked")
    return changed


def unlink(context: Context, site_id: str, by: Principal) -> Site:
    """End the link on our side, and on the site's where it can be reached. Writes.

    Raises Refused while a run is under way: it could neither go on nor go back.
    """
    site = context.store.sites.get(site_id)
    for run in context.store.runs.all(site=site_id, state="running"):
        raise Refused("site-busy", f"run {run.id} is under way on {site.label}; stop it first")
    text = "the agent was told"
    try:
        agent_for(context, site_id).goodbye()
    except LinkError as error:
        text = f"the agent could not be told: {error}"
    with context.store.transaction():
        context.store.agents.drop_key(site_id)
        link = Link(reason="The link was ended here.", since=context.clock())
        changed = context.store.sites.change(site_id, link=link)
        context.record(by.name, f"{site.label}: link ended", site_id, result=text)
    context.tell("site", site_id, "unlinked")
    return changed


def refresh(context: Context, site_id: str) -> Site:
    """Look at a site's pages, and ask its agent what is installed. Writes.

    Never raises for a site that can't be reached: its link then says what was seen.
    """
    site = context.store.sites.get(site_id)
    now = context.clock()
    if context.store.agents.key(site_id) is None:
        return site
    agent = agent_for(context, site_id)
    visit = visits.visit(context, site)
    try:
        inventory = _with_health(agent, agent.inventory(site_id, now))
    except LinkError as error:
        return _unreached(context, site, error, visit)
    except Exception as error:
        # Whatever a site does costs that site only.
        log.exception("%s could not be asked; the others go on", site_id)
        unfit = Unfit(f"its answer can't be used ({error})")
        return _unreached(context, site, unfit, visit)
    ahead = round(agent.ahead or 0)
    with context.store.transaction():
        inventory = inventories.take_in(context, inventory)
        link = site.link.model_copy(
            update={
                "state": "linked",
                "reason": answering(ahead),
                "clock_ahead": ahead,
                "looked_at": now,
                "agent_version": inventory.agent_version or site.link.agent_version,
                "agent_can": inventory.agent_can or site.link.agent_can,
                "since": site.link.since if site.link.state == "linked" else now,
            }
        )
        changed = context.store.sites.change(site_id, link=link, facts_at=now)
        instance.obeyed(context, site_id)
        debts.adopt(context, inventory)
        errands.settle(context, inventory)
    if len(visit.members) != len(inventory.members):
        visits.visit(context, changed)  # its network is known only now, or is another
    _pay(context, agent, site_id)
    context.tell("site", site_id, "refreshed")
    return changed


def _with_health(agent: Agent, inventory: Inventory) -> Inventory:
    """An inventory with what the system's own checks say now, and how its components are
    registered, where its agent asks them apart: they need all of the system, and where that is
    broken they are left as they were.
    """
    if "health" not in inventory.agent_can:
        return inventory
    try:
        asked = agent.health()
    except LinkError as error:
        log.warning("%s was not asked for its own checks: %s", inventory.id, error)
        return inventory
    ids = {check.id for check in asked.checks}
    others = tuple([check for check in inventory.checks or () if check.id not in ids])
    now: dict[str, object] = {"checks": others + asked.checks}
    if asked.registrations is not None:
        now["registrations"] = asked.registrations
    return inventory.model_copy(update=now)


def _pay(context: Context, agent: Agent, site: str) -> None:
    """Pay what runs still owe to a site that answers again, before anything else. Writes.

    A maintenance page that is up for a person stays: the matter's ways out take it away.
    """
    if not debts.owed(context, site) or context.store.runs.count(site=site, state="running"):
        return
    open_ = context.store.matters.count(site=site, open=True)
    kept: tuple[DebtKind, ...] = ("page",) if open_ else ()

    def read() -> Inventory:
        return inventories.take_in(context, agent.inventory(site, context.clock()))

    try:
        debts.pay(context, agent, site, read, but=kept)
    except LinkError as error:
        log.warning("what is owed to %s could not be paid: %s", site, error)


def answering(ahead: int) -> str:
    """What is told of an agent that answers, its clock being so many seconds ahead."""
    if abs(ahead) < _CLOCK_TOLD:
        return "Its agent answers."
    return f"Its agent answers; its clock is {clock_text(ahead)}."


def live(context: Context) -> list[Site]:
    """The sites that are not retired. Reads."""
    return context.store.sites.live()


REFRESHED_AT_ONCE = 16


def refresh_many(context: Context, wanted: Sequence[Site]) -> Iterator[Site]:
    """Refresh many sites at once, few of one host at a time, each as it is ready. Writes."""

    for ready in at_once(
        wanted,
        lambda site: refresh(context, site.id),
        place=lambda s: s.host or s.id,
        most=REFRESHED_AT_ONCE,
        per_place=2,
        finish=context.store.close,  # each thread's own connection
    ):
        yield from ready


def _unreached(context: Context, site: Site, error: LinkError, visit: Visit) -> Site:
    """Two separate looks: the agent did not serve; ``visit`` is what the pages say, unless a run is
    at work there.
    """
    state: LinkState
    if not instance.may_drive(context):
        return site  # it is in order, and another service's
    if isinstance(error, Superseded):
        state = "refused"
        reason = (
            f"Its agent obeys another service: {error}. If this one shall drive it, make a new "
            "line and paste it there."
        )
    elif isinstance(error, KeyRefused):
        state, reason = "refused", f"The agent refuses our key: {error}."
    elif isinstance(error, ClockOff):
        state = "silent"
        reason = (
            f"Its agent answers, but {error}: signatures so far apart are not taken. Set its "
            "server's clock right."
        )
    else:
        pages, seen = visit.state, visit.reason
        if visits.is_worked_on(context, site.id):
            visit = visits.seen_now(context, site)
            pages, seen = visit.state, visit.reason
        if pages == "unreachable":
            state, reason = "down", "Neither its pages nor its agent answer."
        elif pages == "broken":
            state, reason = "silent", f"{seen.rstrip('.')}, and {error}."
        else:
            state, reason = "silent", f"Its pages answer, but {error}."
        if isinstance(error, NotTheAgent):
            reason = f"Something else answers in the agent's place: {error}."
    now = context.clock()
    since = site.link.since if site.link.state == state else now
    link = site.link.model_copy(
        update={"state": state, "reason": reason, "looked_at": now, "since": since}
    )
    changed = context.store.sites.change(site.id, link=link)
    context.tell("site", site.id, state)
    return changed


def inventory_of(context: Context, site: str) -> Inventory | None:
    """The last inventory of a site; None when it was never refreshed. Reads."""
    context.store.sites.get(site)
    return context.store.inventories.find(site)


def agent_for(context: Context, site_id: str) -> Agent:
    """The linked agent of a site. Reads. Raises Refused when the site is not linked."""
    site = context.store.sites.get(site_id)
    key = context.store.agents.key(site_id)
    if key is None:
        raise Refused(
            "not-linked", f"{site.label} is not linked; see `windbreak site link {site_id}`"
        )
    instance.must_drive(context)  # nothing goes out of a reader
    return _agent_of(context, site, key)


def _agent_of(context: Context, site: Site, key: tuple[str, str] | None) -> Agent:
    """The agent of a site, of which id and key are known, or not yet."""
    id, public = (key[0], signing.public_from(key[1])) if key else (None, None)
    return SYSTEMS[site.system].agent(
        visits.visiting(context, site), instance.caller(context, site.id), id, public
    )
