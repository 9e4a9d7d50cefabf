"""Logging by identifier: values, beat, and every moment that was missed."""

import threading

import numpy as np
import pytest

from yarvic.bench.control_unit.facts import UnitFacts
from yarvic.bench.control_unit.loop import Clock, Loop
from yarvic.bench.control_unit.process import new_unit, start_unit
from yarvic.bench.control_unit.values import LiveValues
from yarvic.core.errors import LinkError
from yarvic.core.link.buses import BusChoice, open_bus
from yarvic.core.link.diagnostics import Diagnostics, SilenceError
from yarvic.core.link.live import MOST_MISSED, LiveLog, channels_of

NAMES = ["engine_speed", "manifold_pressure", "ours_only", *(f"spark_correction_{n}" for n in range(1, 60))]


@pytest.fixture
def unit(tmp_path, layout, stock):
    new_unit(tmp_path, layout, stock, UnitFacts())
    values = LiveValues.create(tmp_path, NAMES)
    clock = Clock()
    loop = Loop(tmp_path, layout, clock)
    yield loop, values, clock
    values.close()
    loop.close()


def live(loop, clock, channels, rate_hz, **more):
    tester = Diagnostics(loop.tester_end, answer_s=0.02, **loop.settings)
    return LiveLog(tester=tester, channels=channels, rate_hz=rate_hz, clock=clock, sleep=clock.sleep, **more)


def test_values_come_at_their_beat_with_title_and_unit(unit):
    loop, values, clock = unit

    def engine(t, got):
        values.put({"engine_speed": 1000.0 + 100.0 * len(seen), "spark_correction_59": -2.5})
        seen.append((t, got))

    seen = []
    values.put({"engine_speed": 1000.0, "spark_correction_59": -2.5})
    found = live(loop, clock, ["engine_speed", "spark_correction_59", "ours_only"], 20.0, seen=engine).run(
        lambda: len(seen) >= 40
    )
    speed = found.log.channel("engine_speed")
    assert (found.due, found.missed, found.share_missed) == (40, 0, 0.0)
    assert (speed.title, speed.unit, speed.quantity) == ("Engine speed", "rpm", "engine speed")
    assert np.allclose(np.diff(speed.time_s), 0.05)
    assert speed.values[:3] == pytest.approx([1000.0, 1000.0, 1100.0])
    assert set(found.log.channel("spark_correction_59").values) == {-2.5}
    # What the unit has not measured yet is not a number.
    assert np.isnan(found.log.channel("ours_only").values).all()
    assert channels_of(Diagnostics(loop.tester_end, **loop.settings)) == NAMES


def test_many_channels_go_in_several_requests(unit):
    loop, values, clock = unit
    values.put({name: float(n) for n, name in enumerate(NAMES)})
    asked = []
    found = live(loop, clock, NAMES, 10.0, seen=lambda t, v: asked.append(v)).run(lambda: len(asked) >= 3)
    assert [c.values[0] for c in found.log.channels.values()] == [float(n) for n in range(len(NAMES))]


def test_frames_that_are_lost_are_counted_and_leave_no_value(unit):
    loop, values, clock = unit
    count = [0]

    def lossy(frame, to_unit):
        if to_unit and frame.data[1] == 0x22 and frame.data[2] == 0x02:
            count[0] += 1
            return [] if count[0] % 4 == 0 else [frame]
        return [frame]

    loop.fault = lossy
    values.put({"engine_speed": 1500.0})
    found = live(loop, clock, ["engine_speed"], 10.0).run(lambda: False, longest_s=4.0)
    assert found.due == 40 and found.missed == 10
    assert found.log.channel("engine_speed").values.size == 30
    assert np.isfinite(found.log.channel("engine_speed").values).all()


def test_a_slow_unit_costs_moments_and_does_not_stretch_time(unit):
    loop, values, clock = unit
    values.put({"engine_speed": 1500.0})

    def slow(frame, to_unit):
        clock.now += 0.06 if to_unit else 0.0
        return [frame]

    loop.fault = slow
    found = live(loop, clock, ["engine_speed"], 50.0).run(lambda: False, longest_s=3.0)
    assert found.missed > 80
    assert found.log.channel("engine_speed").time_s[-1] < 3.1
    assert found.due == pytest.approx(150, abs=4)


def test_a_unit_that_is_gone_is_said_and_what_came_is_kept(unit):
    loop, _, clock = unit
    seen = []

    def tell(t, got):
        seen.append(got)
        if len(seen) == 5:
            loop.power_off()

    found = live(loop, clock, ["engine_speed"], 10.0, seen=tell).run(lambda: False)
    assert isinstance(found.fault, SilenceError) and "no values any more" in found.fault.what
    assert len(seen) == 5 == found.log.channel("engine_speed").values.size and found.missed == MOST_MISSED + 1
    with pytest.raises(SilenceError):
        live(loop, clock, ["engine_speed"], 10.0).run(lambda: False)


@pytest.mark.parametrize(
    ("channels", "rate", "words"),
    [
        (["cup_holder"], 10.0, "does not give cup_holder"),
        ([], 10.0, "no channel"),
        (["engine_speed"], 0.0, "no rate"),
    ],
)
def test_what_cannot_be_logged_is_said(unit, channels, rate, words):
    loop, _, clock = unit
    with pytest.raises(LinkError, match=words) as told:
        live(loop, clock, channels, rate).run(lambda: True)
    assert told.value.remedy


def test_over_the_bus_while_the_engine_runs(tmp_path, layout, stock, monkeypatch):
    """Unit and engine each by themselves: every value that came is one that the engine had, each moment is accounted for."""
    monkeypatch.setenv("YARVIC_BUS", str(tmp_path / "bus"))
    new_unit(tmp_path / "unit", layout, stock)
    values = LiveValues.create(tmp_path / "unit", NAMES)
    process = start_unit(tmp_path / "unit", "live")
    over, given = threading.Event(), [2000.0]
    values.put({"engine_speed": 2000.0})

    def engine():
        while not over.wait(0.002):
            given.append(given[-1] + 1.0)
            values.put({"engine_speed": given[-1]})

    thread, seen = threading.Thread(target=engine), []
    thread.start()
    try:
        with open_bus(BusChoice(channel="live")) as bus:
            logged = LiveLog(
                tester=Diagnostics(bus), channels=["engine_speed", "ours_only"], rate_hz=50.0,
                seen=lambda t, got: seen.append(got["engine_speed"]),
            )  # fmt: skip
            found = logged.run(lambda: len(seen) >= 30)
    finally:
        over.set()
        thread.join()
        process.kill()
        values.close()
    speed = found.log.channel("engine_speed")
    assert list(speed.values) == seen and set(seen) <= set(given) and np.all(np.diff(seen) >= 0)
    assert len(seen) == 30 and found.due - found.missed == 30 and np.all(np.diff(speed.time_s) > 0)
