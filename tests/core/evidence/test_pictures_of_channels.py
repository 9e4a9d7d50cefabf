"""Cylinders side by side, and one channel over another."""

import numpy as np
import pytest

from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.against import MOST_POINTS, against
from yarvic.core.evidence.by_cylinder import by_cylinder, families_by_cylinder, usual_way
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.log import Channel, Log
from yarvic.core.evidence.pulls import Pull

T = np.arange(0.0, 10.0, 0.01)
SWEEP = Pull(0.0, 9.99, 1.0, 2000.0, 5995.0)


def log_of(**values):
    values = {"engine_speed": 2000.0 + 400.0 * T, **values}
    kinds = {k: CHANNELS[k] for k in values}
    return Log({k: Channel(k, c.title, c.quantity, c.unit, T, np.asarray(values[k])) for k, c in kinds.items()})


def test_the_lowest_of_each_cylinder_stands_in_the_band_where_it_was():
    dip = np.where((T > 5.0) & (T < 5.5), -4.0, 0.0)  # 4,000 to 4,200 rpm
    log = log_of(spark_correction_1=0.0 * T, spark_correction_2=dip, throttle=1.0 + 0.0 * T)
    assert families_by_cylinder(log) == {"spark_correction": {1: "spark_correction_1", 2: "spark_correction_2"}}
    found = by_cylinder([(log, SWEEP)], "spark_correction", usual_way("spark_correction"))
    band = list(found.edges_rpm).index(4000.0)
    assert found.cylinders == (1, 2) and list(found.whole) == [0.0, -4.0]
    assert found.values[1, band] == -4.0 and np.nanmin(np.delete(found.values[1], band)) == 0.0
    deeper = log_of(spark_correction_2=2.0 * dip, spark_correction_1=0.0 * T)
    assert by_cylinder([(log, SWEEP), (deeper, SWEEP)], "spark_correction", "lowest").whole[1] == -8.0


def test_cylinders_of_any_family_are_shown_and_what_was_not_logged_is_nought():
    hot = {f"exhaust_temperature_cylinder_{n}": 1000.0 + n + T for n in (1, 3)}
    log = log_of(**hot)
    found = by_cylinder([(log, SWEEP)], "exhaust_temperature", usual_way("exhaust_temperature"))
    assert found.cylinders == (1, 3) and found.whole[1] == pytest.approx(1003.0 + 9.99)
    assert usual_way("lambda_measured") == "mean" and families_by_cylinder(log_of()) == {}
    gone = by_cylinder([(log_of(**{k: np.nan * T for k in hot}), SWEEP)], "exhaust_temperature", "mean")
    assert np.isnan(gone.whole).all() and np.isnan(gone.values).all()


def test_points_of_one_channel_over_another_keep_their_time_and_third():
    log = log_of(boost_pressure=1e5 + 1e4 * T, wastegate_duty=T / 10.0)
    found = against(log, "engine_speed", "boost_pressure", "wastegate_duty", 2.0, 4.0)
    assert found.of == found.x.size == 201 and found.time_s[0] == 2.0
    assert found.y == pytest.approx(1e5 + 1e4 * (found.x - 2000.0) / 400.0)
    assert found.shade == pytest.approx(found.time_s / 10.0)
    assert np.isnan(against(log, "engine_speed", "boost_pressure", "", 2.0, 4.0).shade).all()
    with pytest.raises(EvidenceError, match="not in this log"):
        against(log, "engine_speed", "lambda_measured", "", 0.0, 1.0)


def test_many_points_are_thinned_and_the_peak_stays():
    t = np.arange(200_000) / 100.0
    value = np.zeros(t.size)
    value[123_456] = 7.0
    value[99_999] = np.nan
    make = lambda key, v: Channel(key, key, "", "", t, v)  # noqa: E731
    log = Log({"a": make("a", t * 2.0), "b": make("b", value)})
    found = against(log, "a", "b", "", 0.0, t[-1])
    assert found.x.size <= MOST_POINTS and found.y.max() == 7.0 and found.of == t.size - 1
    assert found.x[np.argmax(found.y)] == pytest.approx(2.0 * t[123_456])
