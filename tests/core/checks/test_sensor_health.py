"""A sensor that stands still, lies on its end or lags is no evidence: every check that rests on it says no data."""

import numpy as np
import pytest

from yarvic.core.checks.baseline import Baseline
from yarvic.core.checks.evidence_of_pull import EngineKind
from yarvic.core.checks.finding import NO_DATA, PASS, STOP
from yarvic.core.checks.limits import default_limits
from yarvic.core.checks.probe_lag import probe_lag
from yarvic.core.checks.run import check_log
from yarvic.core.checks.signature import first_signature
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.conditions import Conditions
from yarvic.core.evidence.health import Health
from yarvic.core.evidence.log import Channel, Log

T = np.arange(0.0, 60.0, 0.05)
PULL = (T > 20.0) & (T < 31.0)
SHARE = np.clip((T - 20.0) / 11.0, 0.0, 1.0)
RNG = np.random.default_rng(4)


def noisy(values, sd, step):
    return np.round((values + RNG.normal(0.0, sd, T.size)) / step) * step


def sound():
    """A sound turbo petrol engine through one pull, as fine as its sensors write."""
    return {
        "engine_speed": np.where(PULL, 1900 + 4400 * SHARE, 1500.0) + RNG.normal(0, 3, T.size),
        "throttle": np.where(PULL, 1.0, 0.1),
        "boost_pressure": noisy(np.where(PULL, 110e3 + 90e3 * np.minimum(2 * SHARE, 1.0), 40e3), 400, 100),
        "boost_target": np.where(PULL, 110e3 + 90e3 * np.minimum(2 * SHARE, 1.0), 40e3),
        "charge_temperature": noisy(303.0 + 16 * SHARE * PULL, 0.08, 0.1),
        "ambient_temperature": np.full(T.size, 293.15),
        "lambda_measured": noisy(np.where(PULL, 0.86, 1.0), 0.004, 0.001),
        "lambda_target": np.where(PULL, 0.86, 1.0),
        "rail_pressure": noisy(np.where(PULL, 120e5 + 40e5 * SHARE, 60e5), 0.4e5, 1e4),
        "rail_target": np.where(PULL, 120e5 + 40e5 * SHARE, 60e5),
        "exhaust_temperature": noisy(823.0 + 270 * (1 - np.exp(-np.clip(T - 20, 0, 11) / 4.0)) * PULL, 1.0, 0.5),
        "coolant_temperature": noisy(np.full(T.size, 363.0), 0.05, 0.1),
        "oil_temperature": noisy(368.0 + SHARE, 0.05, 0.1),
        **{f"spark_correction_{n}": np.zeros(T.size) for n in (1, 2, 3, 4)},
    }


def judged(channels):
    made = {
        k: Channel(k, CHANNELS[k].title, CHANNELS[k].quantity, "", T, np.asarray(v, float))
        for k, v in channels.items()
    }
    checked = check_log("x", Log(made), default_limits(), engine=EngineKind(cylinders=4))
    assert len(checked) == 1
    return {f.check: f for f in checked[0].findings}


# What rests on a channel: its own checks.
RESTS = {
    "boost_pressure": {"boost_overshoot", "boost_shortfall"},
    "lambda_measured": {"lambda_lean", "lambda_rich"},
    "rail_pressure": {"rail_sag"},
    "exhaust_temperature": {"exhaust_temperature"},
    "charge_temperature": {"charge_rise", "charge_over_ambient"},
}


def test_a_sound_engine_is_judged():
    found = judged(sound())
    for checks in RESTS.values():
        for check in checks:
            assert found[check].severity == PASS, (check, found[check].note)


@pytest.mark.parametrize("channel", RESTS)
@pytest.mark.parametrize("where", ["the pull", "the log", "half the pull"])
def test_a_frozen_sensor_passes_nothing(channel, where):
    channels = sound()
    frozen = {"the pull": PULL, "the log": np.ones(T.size, bool), "half the pull": PULL & (T > 25.0)}[where]
    values = channels[channel].copy()
    values[frozen] = values[np.flatnonzero(frozen)[0]]
    found = judged({**channels, channel: values})
    if channel == "charge_temperature" and where != "the log":
        return  # a temperature may stand for a pull
    for check in RESTS[channel]:
        assert found[check].severity in (NO_DATA, STOP), (check, found[check].severity)
    if where == "the log":
        assert all(found[c].severity == NO_DATA for c in RESTS[channel])
        assert any("stands still" in found[c].note for c in RESTS[channel])


def test_a_lean_engine_behind_frozen_sensors_does_not_pass():
    """Lambda and exhaust hold one number from before the pull on."""
    channels = sound()
    for key in ("lambda_measured", "exhaust_temperature"):
        channels[key] = np.full(T.size, channels[key][10])
    channels["lambda_target"] = np.full(T.size, channels["lambda_measured"][0])
    found = judged(channels)
    assert {found[c].severity for c in ("lambda_lean", "lambda_rich", "exhaust_temperature")} == {NO_DATA}


def test_a_sensor_on_its_end_may_stop_and_never_passes():
    for most_k, severity in ((1180.0, NO_DATA), (1290.0, STOP)):
        channels = sound()
        hot = 823.0 + 700 * SHARE * PULL
        channels["exhaust_temperature"] = np.minimum(noisy(hot, 1.0, 0.5), most_k)
        assert judged(channels)["exhaust_temperature"].severity == severity


@pytest.mark.parametrize(("rise_k_s", "severity"), [(20.0, PASS), (35.0, PASS), (55.0, NO_DATA)])
def test_a_probe_that_is_still_rising_as_the_pull_ends_is_no_data(rise_k_s, severity):
    """At 930 degC and 55 K/s: behind a probe of 3 s the gas is at 1,095 degC."""
    channels = sound()
    channels["exhaust_temperature"] = noisy(1203.0 - rise_k_s * (31.0 - np.clip(T, 20.0, 31.0)), 0.5, 0.5)
    assert judged(channels)["exhaust_temperature"].severity == severity


def through_a_probe(gas_k, lag_s):
    """What a first-order probe shows of a gas, by its own solution from sample to sample."""
    shown, keep = np.empty(T.size), np.exp(-0.05 / lag_s)
    shown[0] = gas_k[0]
    for n in range(1, T.size):
        shown[n] = gas_k[n] + (shown[n - 1] - gas_k[n]) * keep
    return shown


@pytest.mark.parametrize(
    ("hottest_c", "lag_s", "severity"), [(1060, 6.0, NO_DATA), (930, 6.0, PASS), (890, 0.8, PASS)]
)
def test_the_lag_of_a_probe_is_told_by_how_it_cools(hottest_c, lag_s, severity):
    """A gas of 1,060 degC of which a slow probe shows 970, and rises by less than gas may by itself."""
    channels = sound()
    gas = np.where(PULL, 1050.0 + (hottest_c + 273.15 - 1050.0) * np.minimum(2.0 * SHARE, 1.0), 720.0)
    shown = through_a_probe(gas, lag_s)
    channels["exhaust_temperature"] = noisy(shown, 0.5, 0.5)
    found = judged(channels)["exhaust_temperature"]
    assert found.severity == severity, found
    assert "by how it cools" in found.note or severity == PASS
    log = Log(
        {k: Channel(k, k, CHANNELS[k].quantity, "", T, channels[k]) for k in ("exhaust_temperature", "throttle")}
    )
    told = probe_lag(log, "exhaust_temperature", 31.0)
    assert told is not None and told == pytest.approx(lag_s, rel=0.15)


def test_a_lag_that_cannot_be_told_is_none():
    throttle = np.where(PULL, 1.0, 0.1)

    def told(values, throttle=throttle, until=T[-1]):
        keep = until >= T
        made = {"exhaust_temperature": values, "throttle": throttle}
        channels = {k: Channel(k, k, CHANNELS[k].quantity, "", T[keep], v[keep]) for k, v in made.items()}
        return probe_lag(Log(channels), "exhaust_temperature", 31.0)

    falls = through_a_probe(np.where(PULL, 1200.0, 700.0), 3.0)
    assert told(falls) == pytest.approx(3.0, rel=0.15)
    assert told(falls, until=33.0) is None, "two seconds"
    assert told(falls, throttle=np.where(T > 32.0, 1.0, throttle)) is None, "the throttle is open again"
    assert told(np.full(T.size, 900.0)) is None, "it does not fall"
    assert told(900.0 + 80.0 * np.sin(3.0 * T)) is None, "it goes up and down"


def test_samples_past_the_range_in_a_row_are_samples():
    """Three lean samples past what a wideband shows: left out they would pass."""
    channels = sound()
    at = np.flatnonzero(PULL)[150:153]
    channels["lambda_measured"][at] = 9.0
    assert judged(channels)["lambda_lean"].severity == NO_DATA
    channels["lambda_measured"][at[1:]] = 0.86
    assert judged(channels)["lambda_lean"].severity == PASS


def test_coarse_numbers_may_stand_for_longer():
    """Boost in whole kPa that is held steady, lambda in hundredths: no sensor is accused."""
    channels = sound()
    channels["boost_pressure"] = np.round(channels["boost_target"] / 1e3) * 1e3 + 1e3 * (np.arange(T.size) % 60 == 0)
    channels["lambda_measured"] = np.where(np.arange(T.size) % 55 == 0, 0.87, channels["lambda_target"])
    found = judged(channels)
    assert found["boost_overshoot"].severity == PASS and found["lambda_lean"].severity == PASS


def test_an_engine_at_one_speed_makes_no_sensor_stand_still():
    channels = sound()
    channels["engine_speed"] = np.full(T.size, 2500.0)
    channels["rail_pressure"] = np.full(T.size, 100e5)
    log = Log({k: Channel(k, k, CHANNELS[k].quantity, "", T, v) for k, v in channels.items()})
    assert Health(log).illness("rail_pressure", 20.0, 31.0) is None


# -- what hangs on a broken sensor beside its own checks


def signature_of(channels):
    made = {
        k: Channel(k, CHANNELS[k].title, CHANNELS[k].quantity, "", T, np.asarray(v, float))
        for k, v in channels.items()
    }
    return first_signature(Log(made), HOME)


HOME = Conditions(simulated=False, pressure_pa=97e3, temperature_k=293.0, relative_humidity=0.4, dyno="own")


def against_sound(channels):
    made = {
        k: Channel(k, CHANNELS[k].title, CHANNELS[k].quantity, "", T, np.asarray(v, float))
        for k, v in channels.items()
    }
    by = Baseline("b", (signature_of(sound()),), True)
    checked = check_log("x", Log(made), default_limits(), HOME, EngineKind(cylinders=4), baseline=by)
    return {f.check: f for f in checked[0].findings}, checked[0].off


@pytest.mark.parametrize(
    ("key", "check", "deviation"),
    [
        ("lambda_measured", "mixture_shift", "mixture"),
        ("exhaust_temperature", "exhaust_shift", "exhaust"),
        ("boost_pressure", "boost_delay", "boost_delay"),
        ("charge_temperature", "charge_shift", "charge"),
    ],
)
@pytest.mark.parametrize("how", ["stuck", "half", "missing"])
def test_what_is_held_against_the_baseline_rests_on_its_sensor_too(key, check, deviation, how):
    """A frozen lambda that happens to read what the baseline read is no mixture that stayed."""
    fine, off = against_sound(sound())
    assert fine[check].severity != NO_DATA and deviation in off
    broken = sound()
    values = broken[key].copy()
    at = np.flatnonzero(PULL)[0 if how == "stuck" else PULL.sum() // 2]
    if how == "missing":
        values[at:] = np.nan
    else:
        values[at:] = values[at]
    broken[key] = values
    found, off = against_sound(broken)
    assert found[check].severity == NO_DATA and deviation not in off, found[check]


def test_charge_that_stands_still_in_a_short_log_of_an_engine_without_boost():
    still = {k: v for k, v in sound().items() if not k.startswith("boost")}
    still["charge_temperature"] = np.full(T.size, 303.0)
    keep = (T > 12.0) & (T < 33.0)
    made = {k: Channel(k, CHANNELS[k].title, CHANNELS[k].quantity, "", T[keep], v[keep]) for k, v in still.items()}
    found = check_log("x", Log(made), default_limits(), engine=EngineKind(boosted=False, cylinders=4))[0].findings
    assert next(f for f in found if f.check == "charge_rise").severity == NO_DATA


def test_a_sensor_that_lies_on_its_end_in_most_samples_and_not_in_one_stretch():
    """A rail that the sensor cannot read below: now and then a sample is above its end."""
    broken = sound()
    rail = broken["rail_pressure"].copy()
    end = float(np.quantile(rail[PULL], 0.6))
    broken["rail_pressure"] = np.maximum(rail, end)
    # Noise pushes single samples over it.
    spikes = PULL & (np.arange(T.size) % 7 == 0)
    broken["rail_pressure"][spikes] += 2e5
    assert judged(broken)["rail_sag"].severity == NO_DATA


def test_smoke_of_nought_is_a_filter_and_no_fault():
    speed = np.where(PULL, 1000 + 3000 * SHARE, 900.0)
    health = Health(Log({
        "engine_speed": Channel("engine_speed", "Engine speed", "engine speed", "", T, speed),
        "smoke": Channel("smoke", "Smoke", "ratio", "", T, np.zeros(T.size)),
    }))  # fmt: skip
    assert health.illness("smoke", 20.0, 31.0) is None
    stuck = Log({**health.log.channels, "smoke": Channel("smoke", "Smoke", "ratio", "", T, np.full(T.size, 0.12))})
    assert Health(stuck).illness("smoke", 20.0, 31.0) is not None
