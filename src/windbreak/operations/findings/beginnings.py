"""The first day: what there is to do before the first plan, as a checklist that ticks itself.

The guide ``docs/first-day.md`` walks through the same steps.
"""

from __future__ import annotations

from windbreak.documents.today import Beginning
from windbreak.operations.context import Context


def of(context: Context) -> tuple[Beginning, ...]:
    """The steps of the first day; none once all that are needed are done. Reads."""
    if context.store.feeds.count() and context.store.views.any_linked():
        return ()
    return tuple(_steps(context))


def _steps(context: Context) -> list[Beginning]:
    store = context.store
    sites = store.sites.live()
    first = sites[0].id if sites else "SITE"
    linked = any(site.link.state == "linked" for site in sites)
    return [
        Beginning(
            label="Invite a colleague",
            why="Whoever decides stands in the ledger by name.",
            command="windbreak account add ID NAME, then windbreak account invite ID",
            done=store.accounts.count() > 1,
            needed=False,
        ),
        Beginning(
            label="Enter the hosts",
            why="Which runtimes a site could have, and how many sites may be worked on at once.",
            command="windbreak host add ID NAME --at-once 2 --offers loom 8.1 8.2",
            done=store.hosts.count() > 0,
            needed=False,
        ),
        Beginning(
            label="Enter a site",
            why="Its name, its address, its client, its host.",
            command="windbreak site add LABEL ADDRESS --client CLIENT --host HOST",
            done=bool(sites),
        ),
        Beginning(
            label="Link its agent",
            why="The line it prints is pasted on the agent’s page of the site, once.",
            command=f"windbreak site link {first}",
            done=linked,
        ),
        Beginning(
            label="Add a feed",
            why="Where a maker announces releases; without one nobody tells what is newer.",
            command="windbreak feed add ID LABEL ADDRESS",
            done=store.feeds.count() > 0,
        ),
        Beginning(
            label="Enter the licences",
            why="Which site may take releases that are paid for, and until when.",
            command="windbreak licence add ID LABEL FORM --product PRODUCT",
            done=store.licences.count() > 0,
            needed=False,
        ),
        Beginning(
            label="Set the rules of the house",
            why="How long releases soak, what may be taken without asking, what never.",
            command="windbreak policy set --soak major=14 --why WHY",
            done=store.rules.count() > 0,
            needed=False,
        ),
        Beginning(
            label="Make the first plan",
            why="It changes nothing: it says what would move, in which order, and why.",
            command=f"windbreak plan {first}",
            done=store.plans.count() > 0,
            needed=False,
        ),
    ]
