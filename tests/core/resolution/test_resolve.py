"""The best choice and the order: against the cases kept here, and against trying everything."""

import json
import unittest
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.generate import Oracle, random_case
from windbreak.core.case.reading import read_case
from windbreak.core.case.situation import Case
from windbreak.core.ordering.order import Order, order
from windbreak.core.resolution.resolve import Resolution, outcome, resolve

DATA = Path(__file__).parents[2] / "data/cases"
EXPECTED = json.loads((DATA / "expected.json").read_text())
MORE = Path(__file__).parents[4] / "shared/cases"


def load(name: str, folder: Path = DATA) -> Case:
    return read_case((folder / f"{name}.json").read_text())


def named(resolution: Resolution) -> dict[str, str | None]:
    members = resolution.problem.members
    return {
        m.product: str(v) if (v := resolution.version(n)) else None for n, m in enumerate(members)
    }


def replay(test: unittest.TestCase, done: Order, oracle: Oracle) -> None:
    """Walk the steps and check each against the rules."""
    state = oracle.start
    for step in done.steps:
        test.assertEqual(state, step.before)
        test.assertLessEqual(oracle.violations(step.after), oracle.violations(state))
        for move in step.moves:
            end = step.after[move.v]
            test.assertIn(end, oracle.hops(move.v, state[move.v], end))
            test.assertTrue(oracle.carried(step.after, move.v))
        state = step.after
    test.assertEqual(state, done.resolution.choice)


class KeptCases(unittest.TestCase):
    def test_no_allowed_choice_is_better_than_the_expected_one(self) -> None:
        for path in sorted(DATA.glob("*-*.json")):
            with self.subTest(case=path.stem):
                resolution = resolve(load(path.stem))
                expected = EXPECTED[path.stem]
                self.assertEqual(resolution.objective.model_dump(), expected["objective"])
                self.assertEqual(set(named(resolution)), set(expected["choice"]))

    def test_the_order_is_as_cheap_as_the_expected_one(self) -> None:
        for path in sorted(DATA.glob("*-*.json")):
            with self.subTest(case=path.stem):
                resolution = resolve(load(path.stem))
                done = order(resolution)
                self.assertEqual([done.combined, len(done.steps)], EXPECTED[path.stem]["order"])
                replay(self, done, Oracle(resolution.case, resolution.problem.members))

    @unittest.skipUnless(MORE.exists(), "the larger cases are not here")
    def test_larger_cases_have_the_expected_vector(self) -> None:
        expected = json.loads((MORE / "expected.json").read_text())
        for path in [*sorted(MORE.glob("site-*.json")), *sorted(MORE.glob("large-*.json"))]:
            with self.subTest(case=path.stem):
                got = resolve(load(path.stem, MORE)).objective.model_dump()
                self.assertEqual(got, expected[path.stem]["objective"])


class TryingEverything(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(st.integers(0, 10**6))
    def test_no_allowed_choice_has_a_smaller_vector(self, seed: int) -> None:
        resolution = resolve(random_case(seed))
        oracle = Oracle(resolution.case, resolution.problem.members)
        self.assertTrue(oracle.allowed(resolution.choice))
        self.assertEqual(tuple(resolution.objective.model_dump().values()), oracle.best())
        self.assertEqual(oracle.vector(resolution.choice), oracle.best())

    @settings(max_examples=60, deadline=None)
    @given(st.integers(0, 10**6))
    def test_no_order_is_cheaper_than_the_one_found(self, seed: int) -> None:
        resolution = resolve(random_case(seed))
        oracle = Oracle(resolution.case, resolution.problem.members)
        done = order(resolution)
        replay(self, done, oracle)
        if done.stuck:
            self.assertIsNone(oracle.order(resolution.choice))
            # And nothing better than what is reached can be reached.
            better = sorted((oracle.vector(c), c) for c in oracle.choices() if oracle.allowed(c))
            first = next(vector for vector, c in better if oracle.order(c) is not None)
            self.assertEqual(oracle.vector(done.resolution.choice), first)
        reached = oracle.order(done.resolution.choice)
        self.assertEqual((done.combined, len(done.steps)), reached)


class Outcomes(unittest.TestCase):
    def test_the_word_says_what_becomes_of_a_component(self) -> None:
        for case, product, expected in [
            ("hand-addition", "plugin/oarlock", "add"),
            ("hand-runtime", "core/millrace", "move"),
            ("hand-not-offered", "core/millrace", "stay"),
            ("hand-not-offered", "runtime/loom", "current"),
            ("hand-frozen-group", "theme/capstan", "held"),
            ("hand-frozen-group", "plugin/capstan-blocks", "stay"),
            ("small-1000", "core/c", "part"),
            ("small-1001", "plugin/q0", "absent"),
        ]:
            with self.subTest(case=case, product=product):
                resolution = resolve(load(case))
                self.assertEqual(outcome(resolution, resolution.problem.number(product)), expected)

    def test_the_same_case_gives_the_same_answer(self) -> None:
        self.assertEqual(resolve(load("small-1000")).choice, resolve(load("small-1000")).choice)


class Bounds(unittest.TestCase):
    @unittest.skipUnless(MORE.exists(), "the larger cases are not here")
    def test_orders_of_larger_cases_obey_the_rules_and_none_is_stuck_without_cause(self) -> None:
        stuck = {"site-1005", "large-1002"}  # some three of each keep each other where they are
        for path in [*sorted(MORE.glob("site-*.json")), *sorted(MORE.glob("large-*.json"))]:
            with self.subTest(case=path.stem):
                resolution = resolve(load(path.stem, MORE))
                done = order(resolution)
                oracle = Oracle(resolution.case, resolution.problem.members)
                replay(self, done, oracle)
                self.assertTrue(oracle.allowed(done.resolution.choice))
                self.assertEqual(bool(done.stuck), path.stem in stuck)
