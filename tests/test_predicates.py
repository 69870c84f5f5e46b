"""Signs of the predicates against exact rational arithmetic."""

import numpy as np
from dice import examples
from hypothesis import given, settings
from hypothesis import strategies as st

from lithon.geometry.predicates import incircle, insphere, orient2, orient3

LIMIT = 2**28


def _determinant(m: list[list[int]]) -> int:
    if len(m) == 1:
        return m[0][0]
    return sum(
        (-1) ** j * m[0][j] * _determinant([r[:j] + r[j + 1 :] for r in m[1:]]) for j in range(len(m)) if m[0][j]
    )


def _sign(x: float) -> int:
    return (x > 0) - (x < 0)


def points(dimension: int, count: int):
    """Points spread over the whole grid, or crowded so that ties are common."""
    wide = st.integers(-LIMIT, LIMIT)
    close = st.integers(0, 4)
    offset = st.integers(-LIMIT + 8, LIMIT - 8)

    def crowd(args):
        base, small = args
        return [[b + s for b, s in zip(base, p, strict=True)] for p in small]

    spread = st.lists(st.lists(wide, min_size=dimension, max_size=dimension), min_size=count, max_size=count)
    crowded = st.tuples(
        st.lists(offset, min_size=dimension, max_size=dimension),
        st.lists(st.lists(close, min_size=dimension, max_size=dimension), min_size=count, max_size=count),
    ).map(crowd)
    return st.one_of(spread, crowded)


@settings(max_examples=examples(400), deadline=None)
@given(points(2, 4))
def test_plane_predicates_have_exact_signs(p):
    a, b, c, d = p
    exact = _determinant([[b[0] - a[0], b[1] - a[1]], [c[0] - a[0], c[1] - a[1]]])
    assert orient2(*a, *b, *c) == exact
    rows = [[q[0] - d[0], q[1] - d[1], (q[0] - d[0]) ** 2 + (q[1] - d[1]) ** 2] for q in (a, b, c)]
    assert _sign(incircle(*a, *b, *c, *d)) == _sign(_determinant(rows))


@settings(max_examples=examples(400), deadline=None)
@given(points(3, 5))
def test_space_predicates_have_exact_signs(p):
    q = np.array(p, dtype=np.int64)
    rows = [[int(x) for x in (v - q[0])] for v in q[1:4]]
    assert _sign(orient3(q, 0, 1, 2, 3)) == _sign(_determinant(rows))
    lifted = [[int(x) for x in (v - q[4])] for v in q[:4]]
    lifted = [[*r, sum(x * x for x in r)] for r in lifted]
    assert _sign(insphere(q, 0, 1, 2, 3, 4)) == -_sign(_determinant(lifted))


def test_signs_mean_what_they_say():
    p = np.array([[0, 0, 0], [4, 0, 0], [0, 4, 0], [0, 0, 4], [1, 1, 1], [9, 9, 9], [4, 4, 4]])
    assert orient3(p, 0, 1, 2, 3) > 0
    assert insphere(p, 0, 1, 2, 3, 4) > 0
    assert insphere(p, 0, 1, 2, 3, 5) < 0
    assert insphere(p, 0, 1, 2, 3, 6) == 0
