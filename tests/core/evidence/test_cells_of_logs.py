"""Evidence by cell: weights and look-up against SciPy, means against plain averages, and what nobody heard."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays
from scipy.interpolate import RegularGridInterpolator

from yarvic.core.calibration.storing import Storing
from yarvic.core.calibration.table import NO_AXIS, Axis, Table
from yarvic.core.evidence.cells import cell_evidence, hits_by_cell, mean_by_cell, moments, reading_at, weights_of
from yarvic.core.evidence.coverage import suggested
from yarvic.core.evidence.log import Channel, Doubt, Log
from yarvic.core.evidence.pulls import Pull

SPEED = Axis("Engine speed", "rpm", np.array([1000.0, 2000.0, 4000.0, 6000.0]), "engine_speed")
LOAD = Axis("Throttle", "%", np.array([20.0, 50.0, 100.0]), "throttle")


def table_of(values=None, x=SPEED, y=LOAD):
    values = np.arange(12.0).reshape(3, 4) if values is None else values
    return Table("t", "T", "deg", x, y, values, -1e9, 1e9, Storing("f64"))


def log_of(speed, throttle, step=0.1, **more):
    t = np.arange(len(speed)) * step
    channels = {"engine_speed": speed, "throttle": np.asarray(throttle) / 100.0, **more}
    return Log({k: Channel(k, k, "", "", t, np.asarray(v, dtype=float)) for k, v in channels.items()})


places = st.tuples(st.floats(500.0, 7000.0), st.floats(0.0, 110.0))


@given(st.lists(places, min_size=3, max_size=40), arrays(np.float64, (3, 4), elements=st.floats(-50.0, 50.0)))
@settings(max_examples=60, deadline=None)
def test_the_weights_are_those_of_the_look_up(points, values):
    """Weights times cells give what scipy.interpolate.RegularGridInterpolator reads at the clamped place."""
    speed, throttle = (np.array(p) for p in zip(*points, strict=True))
    table = table_of(values)
    found = weights_of(table, log_of(speed, throttle))
    assert np.allclose(found.weights.sum(axis=0), 1.0) and (found.weights >= 0.0).all()
    read = (found.weights * values.ravel()[found.cells]).sum(axis=0)
    reader = RegularGridInterpolator((LOAD.values, SPEED.values), values)
    clamped = np.clip(throttle, 20.0, 100.0), np.clip(speed, 1000.0, 6000.0)
    assert np.allclose(read, reader(clamped), atol=1e-9)
    # Time and samples are shared out, and none is lost.
    evidence = cell_evidence(table, [(log_of(speed, throttle), Pull(0.0, 1e9, 1.0, 0.0, 0.0))])
    assert evidence.samples.sum() == pytest.approx(len(points))
    assert evidence.seconds.sum() == pytest.approx(0.1 * len(points))


def test_a_mean_is_weighted_and_says_what_it_could_not_read():
    table = table_of()
    log = log_of([1000.0, 1000.0, 2000.0, 1500.0], [20.0, 20.0, 20.0, 20.0])
    found = weights_of(table, log)
    values = np.array([1.0, 3.0, 10.0, np.nan])
    mean = mean_by_cell([(found, values)], (3, 4))
    assert mean.mean[0, 0] == 2.0 and mean.spread[0, 0] == 1.0 and mean.count[0, 0] == 2.0
    assert mean.mean[0, 1] == 10.0 and mean.unread[0, 1] == 0.5 and mean.unread[0, 0] == 0.5
    assert np.isnan(mean.mean[2, 3]) and mean.count[2, 3] == 0.0
    # Over two runs it is what it is over both in one: against numpy's own.
    twice = mean_by_cell([(found, values), (found, values + 2.0)], (3, 4))
    assert twice.mean[0, 0] == pytest.approx(np.mean([1, 3, 3, 5])) and twice.spread[0, 0] == pytest.approx(
        np.std([1, 3, 3, 5])
    )


def test_hits_are_counted_by_pull_and_depth_by_cylinder():
    table = table_of()
    quiet = log_of([2000.0] * 4, [50.0] * 4, spark_correction_1=[0.0] * 4, spark_correction_2=[0.0, -0.5, 0.0, 0.0])
    loud = log_of(
        [2000.0] * 4, [50.0] * 4, spark_correction_1=[0.0] * 4, spark_correction_2=[0.0, -4.0, -2.0, np.nan]
    )
    pull = Pull(0.0, 10.0, 0.5, 0.0, 0.0)
    evidence = cell_evidence(table, [(quiet, pull), (loud, pull), (loud, pull)], limit_deg=1.6)
    r = evidence.retard
    assert r.cylinders == (1, 2) and r.by_cylinder[1, 1, 1] == 4.0 and r.by_cylinder[0, 1, 1] == 0.0
    assert r.deepest_deg[1, 1] == 4.0 and np.isnan(r.deepest_deg[0, 0])
    assert (r.hits[1, 1], r.pulls[1, 1]) == (2, 3) and r.often[1, 1] == pytest.approx(4 / 12)
    assert not evidence.visited[0, 0] and evidence.visited[1, 1]
    # A log without spark corrections says nothing of knock: unknown, not none.
    deaf = cell_evidence(table, [(log_of([2000.0] * 4, [50.0] * 4), pull)])
    assert np.isnan(deaf.retard_deg).all() and deaf.retard.pulls[1, 1] == 0 and deaf.seconds[1, 1] > 0.0


def test_samples_of_another_map_count_only_where_it_was_the_same():
    table = table_of()
    log = log_of([1000.0, 1000.0, 6000.0], [20.0, 20.0, 100.0])
    same = np.ones((3, 4), dtype=bool)
    same[0, 0] = False
    found = weights_of(table, log, same=same)
    assert found.time_s.tolist() == pytest.approx([0.2])


def test_a_gap_is_no_time_and_an_unmeasured_axis_no_evidence():
    table = table_of()
    log = log_of([1000.0, 1000.0, 1000.0, 1000.0], [20.0] * 4)
    t = np.array([0.0, 0.1, 0.2, 60.0])
    gap = Log({k: Channel(k, k, "", "", t, c.values) for k, c in log.channels.items()})
    assert weights_of(table, gap).step_s.max() == pytest.approx(0.1)
    assert weights_of(table, Log({"engine_speed": log.channels["engine_speed"]})) is None
    other = table_of(y=Axis("Load", "", LOAD.values, "no such channel"))
    assert cell_evidence(other, [(log, Pull(0.0, 1.0, 1.0, 0.0, 0.0))]) is None
    # An axis in a unit of another thing is not laid over the numbers.
    assert cell_evidence(table_of(y=Axis("Load", "kPa", LOAD.values, "throttle")), []) is None


def test_a_cursor_reads_the_table_with_its_four_cells():
    table = table_of()
    read = reading_at(table, log_of([3000.0, 3000.0], [35.0, 35.0]), 0.05)
    assert read.value == pytest.approx(float(table.look_up(3000.0, 35.0)))
    assert {(r, c) for r, c, _ in read.cells} == {(0, 1), (0, 2), (1, 1), (1, 2)}
    assert [w for *_, w in read.cells] == pytest.approx([0.25] * 4)
    assert reading_at(table, log_of([1000.0, 1000.0], [20.0, 20.0]), 0.05).cells == ((0, 0, 1.0),)
    assert reading_at(table, log_of([1000.0, 1000.0], [20.0, 20.0]), 99.0) is None


def test_a_cell_leads_to_its_moments():
    speed = [1000.0] * 10 + [6000.0] * 20 + [1000.0] * 10
    assert [(round(a, 1), round(b, 1)) for a, b in moments(table_of(), log_of(speed, [20.0] * 40), 0, 0)] == [
        (0.0, 0.9), (3.0, 3.9),
    ]  # fmt: skip
    assert moments(table_of(), log_of(speed, [20.0] * 40), 2, 2) == []


def test_what_would_cover_it_is_a_run_through_the_unknown_cells():
    table = table_of()
    wanted = np.zeros((3, 4), dtype=bool)
    wanted[1, :] = True  # all of half throttle
    [run] = suggested(table, wanted, [], (1000.0, 6000.0))
    assert (run.kind, run.throttle) == ("sweep", (0.5, 0.5)) and len(run.cells) == 4
    assert run.sentence("gear 4") == "Sweep in gear 4 at 50 % throttle, 1,000 to 6,000 rpm: 4 cells that are unknown"
    wanted[:] = False
    wanted[:, 2] = True  # 4000 rpm, all throttles
    assert suggested(table, wanted, [], (1000.0, 6000.0))[0].kind == "hold"
    # Beyond what the engine may turn, nothing is suggested.
    wanted[:] = False
    wanted[:, 3] = True
    assert suggested(table, wanted, [], (1000.0, 3000.0)) == []


def test_an_axis_that_follows_from_speed_and_throttle_is_learnt_from_logs():
    filling = Axis("Filling", "%", np.array([20.0, 60.0, 100.0]), "filling")
    table = table_of(y=filling)
    speed = np.linspace(1000.0, 6000.0, 200)
    log = log_of(speed, [100.0] * 200, filling=np.full(200, 1.0))
    wanted = np.zeros((3, 4), dtype=bool)
    wanted[1, :] = True  # 60 % filling: about 60 % throttle, where it goes straight from nothing
    found = suggested(table, wanted, [log], (1000.0, 6000.0))
    assert found and found[0].kind == "sweep" and found[0].throttle[0] in (0.5, 0.75)
    assert suggested(table, wanted, [], (1000.0, 6000.0)) == []  # nobody knows how filling follows


def test_a_curve_goes_by_one_axis():
    curve = Table("c", "C", "deg", SPEED, NO_AXIS, np.array([[1.0, 2.0, 3.0, 4.0]]), -9.0, 9.0, Storing("f64"))
    evidence = cell_evidence(curve, [(log_of([1000.0, 1500.0], [1.0, 1.0]), Pull(0.0, 1.0, 1.0, 0.0, 0.0))])
    assert evidence.samples[0].tolist() == [1.5, 0.5, 0.0, 0.0]


def test_what_is_in_doubt_lies_in_no_cell_and_is_no_knock():
    """A pressure that may be gauge would lie in other rows, a correction of unknown sign may be retard or none."""
    speed, quiet = np.linspace(1500.0, 5500.0, 100), np.full(100, 3.0)
    pressure = Axis("Boost pressure", "kPa", np.array([20.0, 100.0, 250.0]), "boost_pressure")
    table = table_of(y=pressure)
    known = log_of(speed, np.zeros(100), boost_pressure=np.full(100, 9e4), spark_correction_1=quiet)

    def doubted(key, about):
        return Log({**known.channels, key: replace(known.channel(key), doubt=Doubt(about, "not said"))})

    assert weights_of(table, known) is not None and reading_at(table, known, 5.0) is not None
    gauge = doubted("boost_pressure", "reference")
    assert weights_of(table, gauge) is None and reading_at(table, gauge, 5.0) is None
    pull = Pull(0.0, 1e9, 1.0, 0.0, 0.0)
    heard = [cell_evidence(table, [(log, pull)]).retard for log in (known, doubted("spark_correction_1", "sign"))]
    assert (np.nanmax(heard[0].deepest_deg), heard[0].cylinders) == (0.0, (1,))
    assert np.isnan(heard[1].deepest_deg).all() and heard[1].cylinders == ()


def test_times_are_counted_in_the_cell_that_weighs_most():
    log = log_of([1000.0, 1900.0, 2100.0, 2050.0, 5900.0], [20.0, 22.0, 24.0, 98.0, 100.0])
    found = hits_by_cell(table_of(), log, np.array([0.0, 0.1, 0.2, 0.3, 0.4, 99.0]))
    assert found[0] == (0, 1, 2) and set(found) == {(0, 1, 2), (0, 0, 1), (2, 1, 1), (2, 3, 1)}
    unknown = Axis("Something", "rpm", SPEED.values, "nothing_known")
    assert hits_by_cell(table_of(x=unknown), log, np.array([0.0])) == []
