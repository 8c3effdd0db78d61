"""Two questions about graphs: what hangs together, and who waits for whom in a ring."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence


def components(nodes: Sequence[int], edges: Iterable[Iterable[int]]) -> list[list[int]]:
    """The nodes in groups that edges join, each edge joining any number of nodes (union-find).

    Ends of edges that are not among the nodes join nothing.

        components([1, 2, 3], [(1, 3), (3, 9)]) == [[1, 3], [2]]
    """
    leader = {v: v for v in nodes}

    def find(v: int) -> int:
        while leader[v] != v:
            leader[v] = leader[leader[v]]
            v = leader[v]
        return v

    for edge in edges:
        first = -1
        for v in edge:
            if v in leader:
                if first >= 0:
                    leader[find(v)] = find(first)
                first = v
    groups: dict[int, list[int]] = {}
    for v in nodes:
        groups.setdefault(find(v), []).append(v)
    return list(groups.values())


def strongly_connected(graph: Mapping[int, Sequence[int]]) -> Iterator[list[int]]:
    """The strongly connected components, those that others lead to first (Tarjan 1972).

    list(strongly_connected({1: [2], 2: [1], 3: [1]})) == [[1, 2], [3]]
    """
    number: dict[int, int] = {}
    low: dict[int, int] = {}
    stack: list[int] = []

    def visit(n: int) -> Iterator[list[int]]:
        number[n] = low[n] = len(number)
        stack.append(n)
        for other in graph[n]:
            if other not in number:
                yield from visit(other)
                low[n] = min(low[n], low[other])
            elif other in stack:
                low[n] = min(low[n], number[other])
        if low[n] == number[n]:
            ring = stack[stack.index(n) :]
            del stack[stack.index(n) :]
            yield ring

    for n in graph:
        if n not in number:
            yield from visit(n)
