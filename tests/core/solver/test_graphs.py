"""What hangs together, and who waits for whom in a ring."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from windbreak.core.solver.graphs import components, strongly_connected

EDGES = st.lists(st.tuples(st.integers(0, 6), st.integers(0, 6)), max_size=12)


def reaches(edges: list[tuple[int, int]], start: int) -> set[int]:
    reached, waiting = {start}, [start]
    while waiting:
        here = waiting.pop()
        for a, b in edges:
            if a == here and b not in reached:
                reached.add(b)
                waiting.append(b)
    return reached


class Graphs(unittest.TestCase):
    @given(EDGES)
    def test_a_component_is_who_reaches_whom_either_way(self, edges: list[tuple[int, int]]) -> None:
        both = edges + [(b, a) for a, b in edges]
        wanted = {frozenset(reaches(both, n)) for n in range(7)}
        self.assertEqual({frozenset(g) for g in components(list(range(7)), edges)}, wanted)

    @given(EDGES)
    def test_a_ring_is_who_reaches_each_other_and_comes_after_whom_it_leads_to(
        self, edges: list[tuple[int, int]]
    ) -> None:
        graph = {n: [b for a, b in edges if a == n] for n in range(7)}
        rings = [frozenset(ring) for ring in strongly_connected(graph)]
        reach = {n: reaches(edges, n) for n in range(7)}
        wanted = {frozenset(m for m in reach[n] if n in reach[m]) for n in range(7)}
        self.assertEqual(set(rings), wanted)
        place = {n: k for k, ring in enumerate(rings) for n in ring}
        for a, b in edges:
            self.assertLessEqual(place[b], place[a])

    def test_edges_to_who_is_not_there_join_nothing(self) -> None:
        self.assertEqual(components([1, 2, 3], [(1, 3), (3, 9)]), [[1, 3], [2]])
