"""A problem with an act done is equal to compiling the changed case from nothing."""

import random
import unittest
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.generate import every_act, random_case
from windbreak.core.bits import bits
from windbreak.core.case.catalogue import Catalogue
from windbreak.core.case.reading import read_case
from windbreak.core.explanation.acts import apply
from windbreak.core.explanation.explain import explain
from windbreak.core.resolution.changed import after
from windbreak.core.resolution.problem import Problem, compile_problem
from windbreak.core.resolution.resolve import best, resolve, weigh
from windbreak.core.solver.search import satisfiable
from windbreak.core.values.reasons import act_of

DATA = Path(__file__).parents[2] / "data"


def reached(problem: Problem) -> dict[str, str | None]:
    """The best choice of a problem, by product; what stays absent is left out."""
    choice = best(problem, problem.domains)
    assert choice is not None
    versions = {
        m.product: m.version(i) for m, i in zip(problem.members, choice, strict=True) if not m.gone
    }
    return {p: str(v) for p, v in versions.items() if v is not None}


def possible(problem: Problem) -> set[tuple[str, str]]:
    """Every version that is part of some allowed choice."""
    network = problem.network()
    return {
        (m.product, str(m.version(i)))
        for v, m in enumerate(problem.members)
        if not m.gone
        for i in bits(network.domains[v])
        if m.version(i) is not None and satisfiable(network, {v: 1 << i})
    }


class After(unittest.TestCase):
    @settings(max_examples=150, deadline=None)
    @given(st.integers(0, 10**9), st.integers(1, 4))
    def test_acts_one_after_the_other_equal_compiling_from_nothing(
        self, seed: int, count: int
    ) -> None:
        case = random_case(seed)
        r = random.Random(seed)
        catalogue = Catalogue.of(case)
        problem = compile_problem(case, catalogue)
        for _ in range(count):
            products = sorted({p.id for p in case.products})
            acts = [a for p in products for a in every_act(case, p)]
            present = {c.product for c in case.site.components}
            acts = [a for a in acts if a.act != "remove" or a.product in present]
            if not acts:
                return
            act = r.choice(acts)
            case = apply(case, act)
            problem = after(problem, case, act)
            anew = compile_problem(case, catalogue)
            self.assertEqual(reached(problem), reached(anew), act)
            self.assertEqual(possible(problem), possible(anew), act)
            chosen = best(problem, problem.domains)
            fresh = best(anew, anew.domains)
            assert chosen is not None and fresh is not None
            self.assertEqual(weigh(problem, chosen), weigh(anew, fresh), act)

    def test_an_act_on_what_is_no_member_any_more_changes_nothing(self) -> None:
        """The smallest case met in which a core proposes to shelve what nobody asks for then."""
        case = read_case((DATA / "orphaned-addition.json").read_text())
        self.assertEqual(len(explain(resolve(case))), len(compile_problem(case).members))
        problem = compile_problem(case)
        for act in (
            *(
                act_of("remove", product=c.product)
                for c in case.site.components
                if c.product.startswith("plugin/")
            ),
            act_of("shelf", product="plugin/q", version="1.0"),
        ):
            case = apply(case, act)
            problem = after(problem, case, act)
        self.assertEqual(reached(problem), reached(compile_problem(case)))


if __name__ == "__main__":
    unittest.main()
