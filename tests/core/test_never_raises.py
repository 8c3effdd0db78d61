"""Any well-formed case is answered: verdicts, reasons, acts, plan, charts, and back from JSON."""

import json
import random
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.generate import random_case
from windbreak.core.case.catalogue import Catalogue
from windbreak.core.case.reading import case_from
from windbreak.core.case.situation import Case
from windbreak.wording.answers import Asked, answered
from windbreak.wording.charts import charts


def odder(case: Case, seed: int) -> Case:
    """The case with some of it left out or said twice, as feeds and hands do, still well-formed."""
    r = random.Random(seed)
    raw = json.loads(case.to_json())
    raw["releases"] = [x for x in raw["releases"] if r.random() < 0.9]
    r.shuffle(raw["releases"])
    for release in raw["releases"]:
        if r.random() < 0.1:
            release["requires"] = {p["id"]: "*" for p in raw["products"] if r.random() < 0.3}
            release["requires"].pop(release["product"], None)
        if r.random() < 0.1:
            release["channel"] = "preview"
    components = raw["site"]["components"]
    if r.random() < 0.3:
        components.remove(r.choice(components))
    for component in components:
        if r.random() < 0.15:
            component["version"] = r.choice(["0", "1.1-beta.2", "99.99", "1.1"])
    if r.random() < 0.5:
        raw["site"]["licences"] = []
    return case_from(raw)


class NeverRaises(unittest.TestCase):
    @given(st.integers(0, 10**9))
    @settings(max_examples=150, deadline=None)
    def test_a_well_formed_case_is_answered_whatever_it_holds(self, seed: int) -> None:
        case = odder(random_case(seed), seed)
        catalogue = Catalogue.of(case)
        found = answered(case, catalogue, Asked(acts=True, plans=True))
        assert found.plan is not None
        products = {c.product for c in case.site.components}
        told = {v.product for v in found.answer.verdicts}
        self.assertLessEqual({p for p in products if not p.startswith("runtime/")}, told)
        reached = {m.product: m.to for step in found.plan.steps for m in step.moves}
        stuck = {one.product for one in found.plan.stuck}
        for verdict in found.answer.verdicts:
            if verdict.blocked is not None:
                self.assertTrue(verdict.blocked.text.endswith("."), verdict.blocked.text)
            if verdict.outcome in ("move", "part", "add") and verdict.product not in stuck:
                self.assertEqual(reached[verdict.product], verdict.to)
        for chart in charts(case, catalogue, found.plan):
            self.assertEqual(len(chart.cells), len(chart.down.versions))
        again = type(found.answer).model_validate_json(found.answer.model_dump_json(by_alias=True))
        self.assertEqual(again, found.answer)
