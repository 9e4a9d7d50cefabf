"""Expressions over channels: what they give, held against NumPy; what they refuse, with the letter; and nothing else."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.expressions import FUNCTIONS, MOST_LEVELS, compute, read_expression
from yarvic.core.evidence.log import Channel, Log

T = np.arange(0.0, 10.0, 0.02)
SLOW = np.arange(0.0, 10.0, 0.1)
SPEED, BOOST = 1800.0 + 440.0 * T, 100e3 + 9e3 * SLOW


def channel(key, t, v):
    kind = CHANNELS[key]
    return Channel(key, kind.title, kind.quantity, "", t, np.asarray(v, dtype=float))


LOG = Log(
    {
        "engine_speed": channel("engine_speed", T, SPEED),
        "boost_pressure": channel("boost_pressure", SLOW, BOOST),
        "throttle": channel("throttle", SLOW, np.where(SLOW < 5.0, 0.2, 1.0)),
        "lambda_measured": channel("lambda_measured", SLOW, np.where((SLOW > 4) & (SLOW < 6), np.nan, 0.9)),
    }
)


def value(text):
    return compute(read_expression(text), LOG)


@pytest.mark.parametrize(
    ("text", "wanted"),
    [
        ("engine_speed", SPEED),
        ("2 + 3 * 4 + 0 * engine_speed", np.full(T.size, 14.0)),
        ("(2 + 3) * 4 + 0 * engine_speed", np.full(T.size, 20.0)),
        ("2 ^ 3 ^ 2 + 0*engine_speed", np.full(T.size, 512.0)),
        ("-2 ^ 2 + 0*engine_speed", np.full(T.size, -4.0)),
        ("8 / 4 / 2 - 1 - 1 + 0*engine_speed", np.full(T.size, -1.0)),
        ("max(engine_speed, 4000) - min(engine_speed, 4000)", np.abs(SPEED - 4000.0)),
        ("sqrt(engine_speed) ^ 2", SPEED),
        ("exp(log(engine_speed))", SPEED),
        ("clip(engine_speed, 2000, 3000)", np.clip(SPEED, 2000, 3000)),
        ("where(engine_speed > 3000 and not (engine_speed >= 4000), 1, 0)", (SPEED > 3000) & (SPEED < 4000)),
        ("engine_speed < 2000 or engine_speed > 6000", (SPEED < 2000) | (SPEED > 6000)),
        ("abs(-engine_speed)", SPEED),
        ("rate(engine_speed)", np.full(T.size, 440.0)),
        ("1.5e3 + .5 + 0*engine_speed", np.full(T.size, 1500.5)),
    ],
)
def test_what_they_give_is_what_numpy_gives(text, wanted):
    clock, values = value(text)
    assert clock is LOG.channels["engine_speed"].time_s
    assert values == pytest.approx(np.asarray(wanted, dtype=float), rel=1e-9)


def test_channels_come_in_si_or_in_the_unit_in_brackets_on_the_finest_clock():
    clock, values = value("boost_pressure[kPa] + 0 * engine_speed")
    inside = clock <= SLOW[-1]
    assert values[inside] == pytest.approx(100.0 + 9.0 * clock[inside])
    assert np.isnan(values[~inside]).all(), "past the last sample nothing is known"
    clock, values = value("boost_pressure")
    assert clock.size == SLOW.size and values == pytest.approx(BOOST)


def test_over_time():
    assert value("integral(engine_speed)")[1][-1] == pytest.approx(np.trapezoid(SPEED, T))
    smooth = value("mean(engine_speed, 0.5)")[1]
    assert smooth[100:-100] == pytest.approx(SPEED[100:-100]), "a line's mean is the line"
    moved = value("shift(engine_speed, 1)")[1]
    assert np.isnan(moved[:50]).all() and moved[60:] == pytest.approx(SPEED[60:] - 440.0)


def test_what_has_no_number_stays_none():
    """Division by nothing, roots and logarithms of less than nothing, gaps: none of it is a number, and none passes."""
    for text in ("engine_speed / (engine_speed - engine_speed)", "sqrt(-engine_speed)", "log(0*engine_speed)"):
        assert np.isnan(value(text)[1]).all(), text
    gap = value("where(lambda_measured > 0.8, 1, 0)")[1]
    hole = (SLOW > 4) & (SLOW < 6)
    assert np.isnan(gap[hole]).all() and (gap[~hole] == 1.0).all()
    assert value("mean(lambda_measured, 0.3)")[1][45:55] == pytest.approx(np.nan, nan_ok=True)


@pytest.mark.parametrize(
    ("text", "letter", "what"),
    [
        ("", None, "empty"),
        ("1 +", 4, "missing"),
        ("engine_speed +* 2", 15, "cannot stand"),
        ("engine_speed $ 2", 14, "no meaning"),
        ("(engine_speed", 14, "')' is missing"),
        ("engine_speed engine_speed", 14, "follows what is complete"),
        ("eval(engine_speed)", 1, "no function 'eval'"),
        ("mean(engine_speed)", 1, "takes 2"),
        ("mean(engine_speed, throttle)", 1, "must be a number"),
        ("engine_speed[kPa]", 13, "does not measure"),
        ("engine_speed[parsec]", 13, "unknown"),
        ("2 * boost_target", 5, "was not logged"),
        ("__import__", 1, "was not logged"),
        ("engine_speed.real", 13, "no meaning"),
        ("'a'", 1, "no meaning"),
        ("2 + 3", None, "names no channel"),
        ("(" * 60 + "engine_speed" + ")" * 60, None, f"deeper than {MOST_LEVELS}"),
        ("-" * 300 + "engine_speed", None, "parts"),
        ("1+" * 400 + "1", None, "longer than"),
    ],
)
def test_what_they_refuse_is_said_with_the_letter(text, letter, what):
    with pytest.raises(EvidenceError, match=r".") as error:
        value(text)
    assert what in str(error.value)
    if letter is not None:
        assert f"at letter {letter} of" in str(error.value)


WORDS = [
    *FUNCTIONS, "engine_speed", "boost_pressure[kPa]", "and", "or", "not", "__class__", "lambda", "import", "9e99",
    "()", "(", ")", ",", "+", "-", "*", "/", "^", "<", "==", "[kPa]", "1", "0", ".5", " ", "\u00e9", "\n", ";", ".",
]  # fmt: skip


@settings(max_examples=300, deadline=None)
@given(st.one_of(st.text(max_size=60), st.lists(st.sampled_from(WORDS), max_size=25).map(" ".join)))
def test_no_text_does_anything_but_give_numbers_or_say_why_not(text):
    try:
        clock, values = value(text)
    except EvidenceError:
        return
    assert clock.shape == values.shape and values.dtype == np.float64 and not np.isinf(values).any()


# -- gaps and huge values


def over(text, values, times=None):
    t = np.arange(len(values)) * 0.1 if times is None else np.asarray(times, dtype=float)
    log = Log({"engine_speed": channel("engine_speed", t, values)})
    return compute(read_expression(text), log)[1]


HOLE = [*np.arange(20) * 0.1, *(10.0 + np.arange(20) * 0.1)]  # eight seconds of which nothing is known


def test_an_integral_has_no_number_from_a_gap_on():
    ones = np.ones(40)
    found = over("integral(engine_speed)", ones, HOLE)
    np.testing.assert_allclose(found[:20], HOLE[:20], atol=1e-12)
    assert np.isnan(found[20:]).all()
    lost = ones.copy()
    lost[[0, 1, 10]] = np.nan  # it begins with the first number
    found = over("integral(engine_speed)", lost)
    assert np.isnan(found[:2]).all() and np.isnan(found[10:]).all()
    np.testing.assert_allclose(found[2:10], np.arange(8) * 0.1, atol=1e-12)


def test_nothing_is_taken_across_a_gap():
    values = np.array([*np.zeros(20), *np.full(20, 100.0)])
    np.testing.assert_allclose(over("rate(engine_speed)", values, HOLE), 0.0, atol=1e-9)
    shifted = over("shift(engine_speed, 4)", values, HOLE)
    assert np.isnan(shifted).all()  # four seconds before, nothing was logged
    np.testing.assert_allclose(over("shift(engine_speed, 0.1)", values, HOLE)[[5, 25]], [0.0, 100.0])
    assert np.isnan(over("shift(engine_speed, 0.1)", values, HOLE)[20])


def test_a_mean_is_none_where_most_is_not_known():
    values = np.ones(41)
    values[10:30] = np.nan
    found = over("mean(engine_speed, 2)", values)
    assert np.isnan(found[10:30]).all()  # there is no number there itself
    assert (found[:10] == 1.0).all() and (found[30:] == 1.0).all()
    sparse = np.full(41, np.nan)
    sparse[20] = 5.0
    assert np.isnan(over("mean(engine_speed, 2)", sparse)).all()


def test_one_huge_value_spoils_no_mean_that_it_is_not_in():
    values = np.linspace(1.0, 2.0, 200)
    plain = over("mean(engine_speed, 0.5)", values)
    np.testing.assert_allclose(plain[10], values[8:13].mean(), rtol=1e-12)
    values[50] = 1e300
    found = over("mean(engine_speed, 0.5)", values)
    apart = np.abs(np.arange(200) - 50) > 3
    np.testing.assert_array_equal(found[apart], plain[apart])
    assert found[50] > 1e298
