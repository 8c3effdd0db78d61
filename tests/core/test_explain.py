"""Reasons, facts that can't be left out, acts that help, and why a step stands where it does."""

import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.generate import random_case
from tests.core.test_resolve import load
from windbreak.core.acts import applied
from windbreak.core.candidates import members
from windbreak.core.constraints import compile_problem
from windbreak.core.explain import Blocked, answer, plan
from windbreak.core.order import order
from windbreak.core.resolve import best, resolve
from windbreak.core.versions import parse_version


def blocked(name: str, product: str) -> Blocked:
    verdicts = answer(resolve(load(name))).verdicts
    found = next(v.blocked for v in verdicts if v.product == product)
    assert found is not None
    return found


class Reasons(unittest.TestCase):
    def test_an_exclusion_is_told_with_its_particulars(self) -> None:
        for name, product, kind, part in [
            ("hand-odds", "theme/breakwater", "licence", "does not cover 5.0"),
            ("hand-odds", "plugin/trestle", "licence", "has ended"),
            ("hand-frozen-group", "theme/capstan", "hold", "menu breaks"),
            ("hand-soak-waiting", "plugin/sextant", "soak", "Wed 10 Mar"),
        ]:
            with self.subTest(case=name, product=product):
                found = blocked(name, product)
                self.assertEqual([t.reason.kind for t in found.reasons], [kind])
                self.assertIn(part, found.text)

    def test_a_runtime_not_offered_is_a_conflict_of_two_facts(self) -> None:
        found = blocked("hand-not-offered", "core/millrace")
        (told,) = found.reasons
        assert told.reason.kind == "conflict"
        facts = [(f.fact, f.subject or f.product, f.object) for f in told.reason.facts]
        self.assertEqual(
            facts,
            [("requires", "core/millrace", "runtime/loom"), ("limit", "runtime/loom", None)],
        )
        self.assertEqual(found.unblock[0].acts[0].act, "offer")

    def test_the_first_day_that_serves_is_the_only_wait(self) -> None:
        found = blocked("hand-soak-waiting", "plugin/sextant")
        waits = [s.acts[0].until for s in found.unblock if s.acts[0].act == "wait"]
        self.assertEqual([str(day) for day in waits], ["2027-03-10"])

    @settings(max_examples=25, deadline=None)
    @given(st.integers(0, 10**6))
    def test_every_act_told_makes_the_version_possible(self, seed: int) -> None:
        case = random_case(seed)
        for verdict in answer(resolve(case)).verdicts:
            for acts in verdict.blocked.unblock if verdict.blocked else ():
                changed = applied(case, acts.acts)
                problem = compile_problem(changed, members(changed))
                v = problem.number(verdict.product)
                assert verdict.newest is not None
                wanted = parse_version(verdict.newest)
                options = [o.version for o in problem.options[v]]
                self.assertIn(wanted, options)
                self.assertIsNotNone(best(changed, problem, {v: 1 << options.index(wanted)}))


class Whys(unittest.TestCase):
    def test_each_place_names_its_real_cause(self) -> None:
        for name, step, part in [
            ("hand-bridge", 0, "so that core/millrace 6.5 can follow"),
            ("hand-two-stages", 3, "Before core/millrace 6.4"),
            ("hand-waypoint", 0, "7.8 can't be reached straight from 4.0"),
            ("hand-runtime", 0, "core/millrace 6.4 needs runtime/loom 8.1 or newer"),
            ("hand-combined", 0, "Together"),
            ("hand-odds", 0, "Nothing ties it"),
        ]:
            with self.subTest(case=name, step=step):
                told = plan(order(resolve(load(name))))
                self.assertIn(part, told.steps[step].why)
