"""Reasons, facts that can't be left out, acts that help, and why a step stands where it does."""

import unittest
from collections.abc import Iterator

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.generate import Oracle, random_case, smallest_sets
from tests.core.resolution.test_resolve import load
from windbreak.core.case.situation import Case, Hold
from windbreak.core.explanation.acts import applied
from windbreak.core.ordering.order import order
from windbreak.core.resolution.resolve import resolve
from windbreak.core.values.reasons import Reason
from windbreak.core.values.verdicts import Blocked
from windbreak.core.versions.version import Version, parse_version
from windbreak.wording.answers import answer, plan
from windbreak.wording.words import in_words


def blocked(name: str, product: str) -> Blocked:
    verdicts = answer(resolve(load(name))).verdicts
    found = next(v.blocked for v in verdicts if v.product == product)
    assert found is not None
    return found


def reasons_of(case: Case) -> Iterator[tuple[str, Version, Reason]]:
    """Each product that is blocked, the version it does not reach, and each reason."""
    for verdict in answer(resolve(case), acts=False).verdicts:
        for told in verdict.blocked.reasons if verdict.blocked else ():
            assert verdict.blocked is not None
            yield verdict.product, parse_version(verdict.blocked.version), told.reason


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

    def test_what_else_stands_in_the_way_of_what_is_kept_out_is_said_too(self) -> None:
        case = load("hand-not-offered")
        hold = Hold(product="core/millrace", reason="the season")
        policy = case.policy.model_copy(update={"holds": (hold,)})
        case = case.model_copy(update={"policy": policy})
        found = next(
            v.blocked for v in answer(resolve(case)).verdicts if v.product == "core/millrace"
        )
        assert found is not None
        self.assertEqual([t.reason.kind for t in found.reasons], ["hold"])
        self.assertRegex(found.text, "is held: the season. Apart from that, .* needs runtime/loom")
        # Where nothing else does, nothing is said.
        self.assertNotIn("Apart from", blocked("hand-soak-waiting", "plugin/sextant").text)

    @given(st.integers(0, 10**9))
    @settings(max_examples=60, deadline=None)
    def test_what_one_act_on_a_product_frees_has_nothing_else_in_its_way(self, seed: int) -> None:
        for verdict in answer(resolve(random_case(seed))).verdicts:
            for one in verdict.blocked.unblock if verdict.blocked else ():
                assert verdict.blocked is not None
                # A licence may take two things out of the way at once; both are told.
                alone = len(one.acts) == 1 and one.acts[0].act != "licence"
                if alone and one.acts[0].product == verdict.product:
                    self.assertNotIn("Apart from that", verdict.blocked.text)

    def test_ranges_are_said_as_people_say_them(self) -> None:
        for text, words in [
            (">=8.1", "8.1 or newer"),
            (">8.1", "above 8.1"),
            ("<=8.1", "up to 8.1"),
            ("<8.1", "below 8.1"),
            ("!=8.1", "other than 8.1"),
            ("=8.1", "8.1"),
            ("8.*", "8.*"),
            (">=2, <3", "from 2 to below 3"),
            (">=2,!=2.5", "2 or newer and other than 2.5"),
            ("<1 || >=2,<=3", "below 1 or from 2 up to 3"),
            ("*", "on the site"),
        ]:
            with self.subTest(range=text):
                self.assertEqual(in_words(text), words)

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


class TryingEverything(unittest.TestCase):
    """Every reason against what the rules say of it, over small random cases."""

    @settings(max_examples=80, deadline=None)
    @given(st.integers(0, 10**6))
    def test_facts_forbid_and_none_can_be_left_out(self, seed: int) -> None:
        case = random_case(seed)
        oracle = Oracle(case)
        for product, version, reason in reasons_of(case):
            if reason.kind == "conflict":
                facts = set(reason.facts)
                self.assertFalse(oracle.open_with(facts, product, version))
                for fact in facts:
                    self.assertTrue(oracle.open_with(facts - {fact}, product, version), fact)

    @settings(max_examples=80, deadline=None)
    @given(st.integers(0, 10**6))
    def test_a_trade_tells_the_best_choice_with_the_version(self, seed: int) -> None:
        case = random_case(seed)
        oracle = Oracle(case)
        for product, version, reason in reasons_of(case):
            if reason.kind == "trade":
                k = next(k for k, m in enumerate(oracle.members) if m.product == product)
                number = oracle.members[k].line.number(version)
                best = min(
                    oracle.vector(c)
                    for c in oracle.choices()
                    if c[k] == number and oracle.allowed(c)
                )
                self.assertEqual(tuple(reason.instead.model_dump().values()), best)

    @settings(max_examples=25, deadline=None)
    @given(st.integers(0, 10**6))
    def test_acts_are_the_smallest_sets_there_are_in_the_order_of_preference(
        self, seed: int
    ) -> None:
        case = random_case(seed)
        for verdict in answer(resolve(case)).verdicts:
            blocked = verdict.blocked
            if blocked is None or blocked.reasons[0].reason.kind == "trade":
                continue
            every = smallest_sets(case, verdict.product, parse_version(blocked.version), 2)
            told = [set(one.acts) for one in blocked.unblock]
            if every:
                self.assertEqual(told, [set(acts) for acts in every[:3]])
            for acts in told:
                self.assertTrue(every or len(acts) == 3)
                changed = Oracle(applied(case, acts))
                self.assertTrue(changed.possible(verdict.product, parse_version(blocked.version)))


class Whys(unittest.TestCase):
    def test_each_place_names_its_real_cause(self) -> None:
        for name, step, part in [
            ("hand-bridge", 0, "so that core/millrace 6.5 can follow"),
            ("hand-two-stages", 3, "Before core/millrace 6.4"),
            ("hand-waypoint", 0, "7.8 can't be reached straight from 4.0"),
            ("hand-runtime", 0, "core/millrace 6.4 needs runtime/loom 8.1 or newer"),
            ("hand-combined", 0, "Together"),
            ("hand-odds", 0, "at another place in the plan"),
        ]:
            with self.subTest(case=name, step=step):
                told = plan(order(resolve(load(name))))
                self.assertIn(part, told.steps[step].why)
