"""The chart of two products that bind each other."""

import unittest

from tests.core.generate import Oracle, random_case
from tests.core.resolution.test_resolve import load
from windbreak.core.case.catalogue import Catalogue
from windbreak.core.case.situation import Case
from windbreak.core.ordering.order import order
from windbreak.core.resolution.resolve import resolve
from windbreak.core.values.charts import Chart
from windbreak.wording.answers import plan
from windbreak.wording.charts import charts


def drawn(case: Case) -> list[Chart]:
    return charts(case, Catalogue.of(case), plan(order(resolve(case))), most=9)


class Charts(unittest.TestCase):
    def test_the_way_leads_round_what_is_forbidden_by_the_bridge(self) -> None:
        (chart,) = drawn(load("hand-bridge"))
        self.assertEqual(
            (chart.across.product, chart.down.product), ("core/millrace", "plugin/oarlock")
        )
        stops = [(chart.across.versions[s.column], chart.down.versions[s.row]) for s in chart.path]
        self.assertEqual(stops, [("6.3", "2.0"), ("6.3", "2.5"), ("6.5", "2.5"), ("6.5", "3.0")])
        self.assertEqual([s.step for s in chart.path], [0, 1, 2, 3])
        corner = chart.cells[chart.down.versions.index("2.0")][chart.across.versions.index("6.5")]
        self.assertEqual(corner.state, "forbidden")
        self.assertIn("needs core/millrace below 6.4", corner.why)
        self.assertIn("Of 6 pairs", chart.text)

    def test_no_way_goes_through_a_forbidden_cell_and_each_cell_says_what_the_rules_say(
        self,
    ) -> None:
        seen = 0
        for seed in range(150):
            case = random_case(seed)
            oracle = Oracle(case)
            places = {m.product: k for k, m in enumerate(oracle.members)}
            for chart in drawn(case):
                seen += 1
                for stop in chart.path:
                    self.assertNotEqual(chart.cells[stop.row][stop.column].state, "forbidden")
                pair = {chart.across.product, chart.down.product}
                for row, down in enumerate(chart.down.versions):
                    for column, across in enumerate(chart.across.versions):
                        choice = list(oracle.start)
                        for side, text in ((chart.across, across), (chart.down, down)):
                            m = oracle.members[places[side.product]]
                            numbers = [n for n in range(len(m.line.releases) + 1)
                                       if str(m.version(n) or "absent") == text]  # fmt: skip
                            choice[places[side.product]] = numbers[-1]
                        broken = {
                            v
                            for v in oracle.violations(tuple(choice)) - oracle.today
                            if set(v[1:]) == pair
                        }
                        self.assertEqual(
                            chart.cells[row][column].state == "forbidden", bool(broken)
                        )
        self.assertGreater(seen, 50)
