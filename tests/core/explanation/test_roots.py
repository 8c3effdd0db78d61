"""Roots: where reasons lead; each is true of the case it is told of."""

from __future__ import annotations

import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.generate import random_case
from windbreak.core.case.candidates import licence_state, reasons, soak_over
from windbreak.core.explanation.explain import explain
from windbreak.core.resolution.resolve import resolve
from windbreak.core.values.reasons import (
    AccessExclusion,
    BundleExclusion,
    ChannelExclusion,
    Conflict,
    FromExclusion,
    HoldExclusion,
    LicenceExclusion,
    OfferExclusion,
    SoakExclusion,
    Trade,
    Unshipped,
)
from windbreak.core.versions.version import parse_version

seeds = st.integers(min_value=0, max_value=40_000)


class Roots(unittest.TestCase):
    @given(seeds)
    @settings(max_examples=300, deadline=None)
    def test_whatever_is_blocked_leads_somewhere(self, seed: int) -> None:
        for fate in explain(resolve(random_case(seed)), acts=False):
            if fate.blocked is not None:
                self.assertTrue(fate.blocked.leads_to, fate.blocked)

    @given(seeds)
    @settings(max_examples=300, deadline=None)
    def test_each_root_is_true_of_the_case(self, seed: int) -> None:
        resolution = resolve(random_case(seed))
        case, problem = resolution.case, resolution.problem
        for fate in explain(resolution, acts=False):
            if fate.blocked is None:
                continue
            for end in (*fate.blocked.leads_to, *fate.blocked.apart):
                if end.version is None:
                    self.assertIsInstance(end.reason, AccessExclusion | Unshipped)
                    continue
                member = problem.members[problem.number(end.product)]
                number = member.line.number(parse_version(end.version))
                kinds = {r.kind for r in reasons(case, problem.catalogue, member, number)}
                match end.reason:
                    case LicenceExclusion(state=state):
                        self.assertEqual(licence_state(case, member, number), state)
                    case OfferExclusion():
                        self.assertNotIn(end.version, case.site.offers.get(end.product, ()))
                    case SoakExclusion(over=over):
                        self.assertEqual(soak_over(case, member, number), over)
                        self.assertGreater(over, case.day)
                    case HoldExclusion(reason=why):
                        self.assertIn(why, [h.reason for h in case.policy.holds])
                    case ChannelExclusion() | FromExclusion() | AccessExclusion():
                        self.assertIn(end.reason.kind, kinds)
                    case BundleExclusion():
                        self.assertIn("bundle", kinds)
                    case Unshipped(by=by) if by != end.product:
                        carried = [r.bundles.get(end.product) for r in case.releases_of[by]]
                        self.assertNotIn(end.version, carried)
                    case Unshipped():
                        self.assertEqual(number, len(member.line.releases))
                    case Conflict() | Trade():
                        apart = end in fate.blocked.apart  # then the release is kept out besides
                        self.assertTrue(apart or not kinds)
