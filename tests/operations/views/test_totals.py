"""The moves that wait: added up in one place, those out of reach apart."""

import json

from tests.operations.within import WithContext, catch_up
from windbreak.operations.administration import exports
from windbreak.operations.findings import today
from windbreak.operations.views import sites as site_views

SITES = ("skerry-light", "skerry-light-twin", "seapink-florists", "whinchat-radio")


class Added(WithContext):
    def test_what_can_t_be_reached_is_told_apart_on_every_surface(self) -> None:
        self.feeds()
        for site in SITES:
            self.site(site)
        link = self.context.store.sites.get("whinchat-radio").link
        silent = link.model_copy(update={"state": "silent", "reason": "no answer"})
        self.context.store.sites.change("whinchat-radio", link=silent)
        catch_up(self.context)
        rows = {row.id: sum(row.moves.values()) for row in site_views.summaries(self.context)}
        self.assertGreater(rows["whinchat-radio"], 0)
        told = site_views.totals(self.context)
        beyond = rows.pop("whinchat-radio")
        self.assertEqual((told.beyond_moves, told.beyond_sites), (beyond, 1))
        self.assertEqual(told.moves, sum(rows.values()))
        self.assertEqual(told.sites, sum(map(bool, rows.values())))
        self.assertEqual(sum(told.by_kind.values()), told.moves)
        page = json.loads(today.today(self.context))
        self.assertEqual(page["totals"], told.model_dump(mode="json"))
        lines = exports.metrics(self.context).decode().splitlines()
        moves = [line.rpartition(" ")[2] for line in lines if line.startswith("windbreak_moves{")]
        self.assertEqual(sum(map(float, moves)), told.moves)
        self.assertIn(f"windbreak_moves_beyond_reach {float(beyond)}", lines)
        linked = silent.model_copy(update={"state": "linked"})
        self.context.store.sites.change("whinchat-radio", link=linked)
        catch_up(self.context)
        self.assertEqual(site_views.totals(self.context).moves, told.moves + beyond)
