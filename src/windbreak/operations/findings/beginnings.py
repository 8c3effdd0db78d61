"""The first day: what there is to do before the first plan, as a checklist that ticks itself.

The guide ``docs/first-day.md`` walks through the same steps.
"""

from __future__ import annotations

from collections.abc import Iterator

from windbreak.documents.today import Beginning
from windbreak.operations.context import Context
from windbreak.operations.findings.causes.made import act


def of(context: Context) -> tuple[Beginning, ...]:
    """The steps of the first day; none once all that are needed are done. Reads."""
    if context.store.feeds.count() and context.store.views.any_linked():
        return ()
    return tuple(_steps(context))


def _steps(context: Context) -> Iterator[Beginning]:
    store = context.store
    sites = store.sites.live()
    first = sites[0].id if sites else "SITE"
    yield Beginning(
        act=act("Invite a colleague", "add-account"),
        why="Whoever decides stands in the ledger by name.",
        done=store.accounts.count() > 1,
    )
    yield Beginning(
        act=act("Enter the hosts", "add-host"),
        why="Which runtimes a site could have, and how many sites may be worked on at once.",
        done=store.hosts.count() > 0,
    )
    yield Beginning(
        act=act("Enter a site", "add-site"),
        why="Its name, its address, its client, its host.",
        done=bool(sites),
    )
    yield Beginning(
        act=act("Link its agent", "link", site=first),
        why="The line it prints is pasted on the agent’s page of the site, once.",
        done=any(site.link.state == "linked" for site in sites),
    )
    yield Beginning(
        act=act("Add a feed", "add-feed"),
        why="Where a maker announces releases; without one nobody tells what is newer.",
        done=store.feeds.count() > 0,
    )
    yield Beginning(
        act=act("Enter the licences", "add-licence"),
        why="Which site may take releases that are paid for, and until when.",
        done=store.licences.count() > 0,
    )
    yield Beginning(
        act=act("Set the rules of the house", "set-rule"),
        why="How long releases soak, what may be taken without asking, what never.",
        done=store.rules.count() > 0,
    )
    yield Beginning(
        act=act("Make the first plan", "see-plan", site=first),
        why="It changes nothing: it says what would move, in which order, and why.",
        done=store.plans.count() > 0,
    )
