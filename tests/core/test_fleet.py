"""Many sites at once: keys, what a change can touch, and the same answers on every executor."""

import pickle
import sys
import unittest
from concurrent.futures import Executor, ProcessPoolExecutor
from datetime import date
from multiprocessing import get_context

from pydantic import ValidationError

from tests.core.generate import random_case
from tests.core.resolution.test_resolve import load
from windbreak.core.case.catalogue import Catalogue
from windbreak.core.case.situation import Case
from windbreak.core.fleet import changes_on, reach_of, situation_key, spread
from windbreak.core.resolution.resolve import resolve
from windbreak.wording.answers import answer, answers


def renamed(case: Case, id: str) -> Case:
    return case.model_copy(update={"site": case.site.model_copy(update={"id": id})})


class Keys(unittest.TestCase):
    def test_equal_situations_have_one_key_whatever_the_site_is_called(self) -> None:
        case = load("hand-two-stages")
        turned = case.site.model_copy(
            update={"id": "other", "components": tuple(reversed(case.site.components))}
        )
        other = case.model_copy(update={"site": turned})
        self.assertEqual(situation_key(case), situation_key(other))

    def test_whatever_the_reasoning_looks_at_changes_the_key(self) -> None:
        case = load("hand-not-offered")
        for part, update in [
            ("site", {"offers": {"runtime/loom": ("8.0", "8.1")}}),
            ("site", {"components": case.site.components[:-1]}),
            ("policy", {"install_required": False}),
            ("policy", {"channels": ("stable", "preview")}),
        ]:
            with self.subTest(part=part, update=update):
                whole = getattr(case, part).model_copy(update=update)
                other = case.model_copy(update={part: whole})
                self.assertNotEqual(situation_key(case), situation_key(other))

    def test_an_answer_holds_until_a_soak_a_hold_or_a_licence_ends(self) -> None:
        self.assertEqual(changes_on(load("hand-soak-waiting")), date(2027, 3, 10))
        # Nothing ends by itself: only the way days are written changes, with the year.
        case = load("hand-combined")
        self.assertEqual(changes_on(case), date(case.day.year + 1, 1, 1))


class Lean(unittest.TestCase):
    def test_a_case_beside_a_wider_catalogue_is_answered_as_by_itself(self) -> None:
        for seed in range(40):
            case = random_case(seed)
            own = case.site.components[-1].product
            custom = tuple(
                p.model_copy(update={"access": "custom"}) if p.id == own else p
                for p in case.products
            )
            for one in (case, case.model_copy(update={"products": custom})):
                catalogue = Catalogue.of(case)
                lean = catalogue.lean(one)
                self.assertEqual(len(lean.products), 0 if one is case else 1)
                beside = answer(resolve(lean, catalogue.beside(lean)))
                self.assertEqual(beside, answer(resolve(one)))


class Reach(unittest.TestCase):
    def test_a_release_touches_its_product_and_what_could_bring_it_to_a_site(self) -> None:
        catalogue = Catalogue.of(load("hand-addition"))
        self.assertEqual(
            reach_of(catalogue, "plugin/oarlock"),
            {"plugin/oarlock", "plugin/breakwater-keel", "theme/breakwater"},
        )
        self.assertEqual(reach_of(catalogue, "core/millrace"), {"core/millrace"})


class Executors(unittest.TestCase):
    def asked_of(self, executor: Executor | None) -> list[object]:
        case = load("small-1003")
        catalogue = Catalogue.of(case)
        lean = catalogue.lean(case)
        sites = [renamed(lean, f"site-{n}") for n in range(5)]
        older = lean.site.model_copy(update={"components": lean.site.components[:-1]})
        sites.append(lean.model_copy(update={"site": older}))
        found = list(answers(catalogue, sites, acts=True, executor=executor))
        self.assertEqual([a.site for _, a in found[:5]], [f"site-{n}" for n in range(5)])
        return [a.verdicts for _, a in found]

    def test_a_case_and_its_answer_come_back_from_a_journey_as_they_were(self) -> None:
        for seed in range(20):
            case = random_case(seed)
            told = answer(resolve(case))
            for value in (case, told):
                back = pickle.loads(pickle.dumps(value))
                self.assertEqual(back, value)
                self.assertEqual(back.model_dump_json(), value.model_dump_json())
            with self.assertRaisesRegex(ValidationError, "frozen"):
                back.site = "elsewhere"

    def test_how_threads_take_turns_is_as_before_when_all_is_done(self) -> None:
        before = sys.getswitchinterval()
        during: list[float] = []
        case = load("small-1003")
        catalogue = Catalogue.of(case)
        work = lambda case, catalogue: during.append(sys.getswitchinterval())  # noqa: E731
        spread(catalogue, {"one": case}, work)
        self.assertLess(during[0], before)
        self.assertEqual(sys.getswitchinterval(), before)

    def test_processes_answer_as_the_service_itself_does(self) -> None:
        with ProcessPoolExecutor(2, mp_context=get_context("spawn")) as executor:
            self.assertEqual(self.asked_of(executor), self.asked_of(None))

    def test_a_cluster_answers_as_the_service_itself_does(self) -> None:
        from distributed import LocalCluster

        from windbreak.operations.executors import executor

        with LocalCluster(
            n_workers=2, threads_per_worker=1, processes=True, dashboard_address=None
        ) as cluster:
            there = executor(0, cluster.scheduler_address)
            assert there is not None
            try:
                self.assertEqual(self.asked_of(there), self.asked_of(None))
            finally:
                there.shutdown()
