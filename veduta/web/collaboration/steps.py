"""The states of a page's history, as it sends them to be brought to what others did."""

from __future__ import annotations

from collections.abc import Iterator


def iterate_steps(states: int, behind: int) -> Iterator[tuple[int, int]]:
    """The place of each state but the one now, with the place of its neighbour nearer to that.

    The one now is the first; then come so many as are `behind` it, and those before it, in both of which the nearest is
    the last.

    >>> list(iterate_steps(5, behind=2))
    [(1, 2), (2, 0), (3, 4), (4, 0)]
    """
    for place in range(1, states):
        yield place, 0 if place in (behind, states - 1) else place + 1
