"""Everything a service keeps, an attribute for each aggregate."""

from __future__ import annotations

from pathlib import Path

from windbreak.store.accounts import Accounts, Tokens
from windbreak.store.database import Database
from windbreak.store.errands import Errands
from windbreak.store.facts import Facts, Secrets
from windbreak.store.findings import Findings
from windbreak.store.ledger import Events, Ledger
from windbreak.store.licences import Licences, Seats
from windbreak.store.matters import Debts, Matters
from windbreak.store.outcomes import Outcomes
from windbreak.store.outward import Deliveries, Hooks
from windbreak.store.plans import (
    Bookings,
    FailedMoves,
    FreezeCalendars,
    Freezes,
    Plans,
    Rollouts,
    Tooks,
    Watches,
)
from windbreak.store.policy import Clashes, Holds, Locksteps, Rules
from windbreak.store.releases import Advisories, Feeds, Packages, Products, Releases, Rights
from windbreak.store.runs import Journals, Runs
from windbreak.store.sites import Agents, Hosts, Integrities, Inventories, Sites, Visits
from windbreak.store.tasks import Tasks
from windbreak.store.turns import Turns
from windbreak.store.views import Views


class Store:
    """The kept things of one service. Opening it brings the file to the newest shape."""

    def __init__(self, path: Path) -> None:
        database = self.database = Database(path)
        self.transaction = database.transaction
        self.close = database.close
        self.accounts, self.tokens = Accounts(database), Tokens(database)
        self.hosts, self.sites = Hosts(database), Sites(database)
        self.inventories, self.agents = Inventories(database), Agents(database)
        self.visits, self.turns = Visits(database), Turns(database)
        self.integrity = Integrities(database)
        self.products, self.feeds = Products(database), Feeds(database)
        self.releases, self.advisories = Releases(database), Advisories(database)
        self.packages, self.rights = Packages(database), Rights(database)
        self.licences, self.seats = Licences(database), Seats(database)
        self.hooks, self.deliveries = Hooks(database), Deliveries(database)
        self.holds, self.rules = Holds(database), Rules(database)
        self.locksteps, self.clashes = Locksteps(database), Clashes(database)
        self.plans, self.bookings = Plans(database), Bookings(database)
        self.rollouts, self.failed_moves = Rollouts(database), FailedMoves(database)
        self.freezes, self.freeze_calendars = Freezes(database), FreezeCalendars(database)
        self.watches, self.took = Watches(database), Tooks(database)
        self.runs, self.journal = Runs(database), Journals(database)
        self.outcomes = Outcomes(database)
        self.debts, self.matters = Debts(database), Matters(database)
        self.errands, self.tasks = Errands(database), Tasks(database)
        self.findings = Findings(database)
        self.ledger, self.events = Ledger(database), Events(database)
        self.facts, self.secrets = Facts(database), Secrets(database)
        self.views = Views(database)
