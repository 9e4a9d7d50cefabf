"""A long trace in fewer points: no peak is hidden, gaps stay gaps, and what is drawn lies between the places asked for."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from yarvic.core.evidence.overview import SAMPLES_A_POINT, Overview, Seen

N = 300_000
X = np.arange(N) / 100.0
Y = np.sin(X) + 0.01 * np.random.default_rng(3).standard_normal(N)


@pytest.mark.parametrize("at", [0, 1, 7, 8, 12_345, 150_001, N - 1])
@pytest.mark.parametrize("points", [100, 800, 1600])
def test_one_sample_that_stands_out_is_drawn_at_every_zoom(at, points):
    y = Y.copy()
    y[at] = 50.0
    for wide in (N / 100.0, 300.0, 30.0, 1.0):
        start = min(max(X[at] - wide / 2.0, X[0]), X[-1])
        _, drawn = Overview(X, y).within(start, start + wide, points)
        assert drawn.max() == 50.0


@settings(max_examples=60, deadline=None)
@given(st.floats(0.0, 3000.0), st.floats(0.01, 3000.0), st.integers(50, 2000))
def test_it_covers_what_all_samples_would(start, wide, points):
    x, y = Overview(X, Y).within(start, start + wide, points)
    inside = (start <= X) & (start + wide >= X)
    assert np.all(np.diff(x) >= 0.0) and x.shape == y.shape
    assert y.size <= 2 * 8 * SAMPLES_A_POINT * points + 100
    if inside.any():
        assert y.min() <= Y[inside].min() and y.max() >= Y[inside].max()
        assert x[0] <= X[inside][0] and x[-1] >= X[inside][-1] - 8**6 / 100.0


def test_few_samples_in_sight_are_drawn_as_they_are_and_gaps_stay():
    _, y = Overview(X, Y).within(10.0, 12.0, 800)
    assert y.size <= 204 and set(y) <= set(Y)
    holed = Y.copy()
    holed[50_000:100_000] = np.nan
    _, drawn = Overview(X, holed).within(0.0, 3000.0, 400)
    assert np.isnan(drawn).sum() > 50 and np.isfinite(drawn).sum() > 200
    assert Overview(X[:3], Y[:3]).within(-5.0, 5.0, 100)[1].size == 3
    assert Overview(X[:0], Y[:0]).within(0.0, 1.0, 100)[1].size == 0


def test_a_trace_seen_from_elsewhere_is_the_same_moved_and_turned_into_its_unit():
    trace = Overview(X, Y)
    seen = Seen(trace, 1000.0, lambda y: 2.0 * y + 1.0)
    x, y = seen.within(-500.0, 700.0, 300)
    plain_x, plain_y = trace.within(500.0, 1700.0, 300)
    np.testing.assert_array_equal(x, plain_x - 1000.0)
    np.testing.assert_array_equal(y, 2.0 * plain_y + 1.0)
    assert seen.ends == pytest.approx((2.0 * Y.min() + 1.0, 2.0 * Y.max() + 1.0))
    assert trace.rises and not Overview(X[::-1], Y).rises
    assert np.isnan(Overview(X, np.full(N, np.nan)).ends).all() and np.isnan(Overview(X[:0], Y[:0]).ends).all()
