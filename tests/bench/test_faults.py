"""Each fault leaves in the evidence what it would leave in life, more of it the worse it is, and nothing when off."""

from dataclasses import replace

import numpy as np
import pytest

from yarvic.bench.faults import FAULTS, FOREIGN_FAMILY, check_faults, faulty_memory
from yarvic.bench.rig import usual_settings
from yarvic.bench.vehicles import VEHICLES, plant_for, stock_image
from yarvic.core.errors import LinkError
from yarvic.core.physics.air import Air
from yarvic.state.reach.simulated import UnitLink

P, W, F = VEHICLES
SPEEDS = {P: (2500.0, 6300.0), W: (1500.0, 3700.0), F: (4500.0, 10_800.0)}


class Seen:
    """Numbers read from one run, as a calibrator reads them."""

    def __init__(self, bench, name, run):
        self.bench, self.name, (self.log, self.conditions) = bench, name, run
        self.peak = bench.curve(run).peak_power[0] if "roller_speed" in self.log.channels else 0.0
        self.mean = bench.curve(run).mean_power(*self._middle())

    def _middle(self):
        low, high = SPEEDS[self.name]
        return low + 0.2 * (high - low), high - 0.4 * (high - low)

    def most(self, key):
        return float(np.nanmax(self.bench.inside(self.log, key, *SPEEDS[self.name])))

    def least(self, key):
        return float(np.nanmin(self.bench.inside(self.log, key, *SPEEDS[self.name])))

    def mid(self, key):
        return float(np.nanmedian(self.bench.inside(self.log, key, *SPEEDS[self.name])))

    @property
    def retard(self):
        return [max(-self.least(f"spark_correction_{i}"), 0.0) for i in (1, 2, 3)]

    @property
    def slip(self):
        t = np.arange(1.5, self.log.span()[1] - 1.0, 0.05)
        ratio = self.log.at("engine_speed", t) / (self.log.at("roller_speed", t) * self.conditions.engine_per_roller)
        return float(np.nanmax(ratio))


@pytest.fixture(scope="module")
def see(bench, healthy):
    cache = {}

    def seen(name, fault="", severity=1.0):
        key = (name, fault, severity)
        if key not in cache:
            run = bench.run(name, faults={fault: severity}) if fault else healthy[name]
            cache[key] = Seen(bench, name, run)
        return cache[key]

    return seen


@pytest.mark.parametrize("name", [P, F])
def test_a_weak_injector(see, name):
    sick, well = see(name, "weak_injector"), see(name)
    assert sick.mid("lambda_measured") > well.mid("lambda_measured") + 0.02
    assert sick.mean < 0.97 * well.mean


def test_a_weak_injector_of_a_diesel_gives_less(see):
    sick, well = see(W, "weak_injector"), see(W)
    assert sick.mean < 0.96 * well.mean and sick.mid("exhaust_temperature") < well.mid("exhaust_temperature")


def test_a_tired_pump(see):
    for name in (P, W):
        sick, well = see(name, "tired_pump"), see(name)
        assert sick.least("rail_pressure") < 0.85 * well.least("rail_pressure"), name
    petrol = see(P, "tired_pump")
    assert petrol.most("lambda_measured") > see(P).most("lambda_measured")
    twin, whole = see(F, "tired_pump"), see(F)
    assert twin.least("feed_pressure") < 0.9 * whole.least("feed_pressure")
    assert twin.least("lambda_measured") > whole.least("lambda_measured")


def test_a_boost_leak(see):
    sick, well = see(P, "boost_leak"), see(P)
    assert sick.mid("wastegate_duty") > well.mid("wastegate_duty") + 0.05
    assert sick.mean < 0.98 * well.mean
    # What leaked was metered: the air meter and the boost no longer agree with the power.
    diesel, sound = see(W, "boost_leak"), see(W)
    assert diesel.mid("vane_position") > sound.mid("vane_position") + 0.03
    assert diesel.most("smoke") > sound.most("smoke")


@pytest.mark.parametrize("name", VEHICLES)
def test_a_slipping_clutch(see, name):
    sick, well = see(name, "slipping_clutch"), see(name)
    assert well.slip < 1.02
    assert sick.slip > 1.10


def test_stuck_shutters(bench):
    ends = []
    for faults in ({}, {"stuck_shutters": 1.0}):
        rig = bench.rig(P, faults=faults, air=Air(97_000.0, 303.15, 0.4))
        runs = [rig.pull(replace(usual_settings(rig.plant), cool_down_s=20.0)) for _ in range(3)]
        ends.append(float(runs[-1][0].channels["charge_temperature"].values.max()))
    assert ends[1] > ends[0] + 2.0


@pytest.mark.parametrize("name", VEHICLES)
def test_a_plugged_filter(see, name):
    sick, well = see(name, "plugged_filter"), see(name)
    assert sick.peak < 0.98 * well.peak
    if name == F:
        assert sick.least("airbox_pressure") < well.least("airbox_pressure") - 5e3
    else:
        key = "wastegate_duty" if name == P else "vane_position"
        assert sick.mid(key) > well.mid(key)


@pytest.mark.parametrize("name", [P, F])
def test_a_failing_coil(see, name):
    sick, well = see(name, "failing_coil"), see(name)
    assert well.most("misfires") == 0.0 and sick.most("misfires") > 20.0
    assert sick.most("lambda_measured") > well.most("lambda_measured") + 0.05
    assert sick.mean < 0.98 * well.mean


def test_a_drifting_wideband(see):
    sick, well = see(F, "drifting_wideband"), see(F)
    assert sick.mid("lambda_measured") == pytest.approx(1.10 * well.mid("lambda_measured"), rel=0.02)
    # Nothing else knows of it: that is how it is found out.
    assert sick.mean == pytest.approx(well.mean, rel=0.01)
    petrol, whole = see(P, "drifting_wideband"), see(P)
    assert petrol.mid("fuel_trim") + petrol.mid("long_trim") > whole.mid("fuel_trim") + whole.mid("long_trim") + 0.005


def write(unit, image, folder):
    """Bring an image into a unit over its bus."""
    with UnitLink(folder / "job.yarvic", unit).talk(lambda step: None, lambda: False) as flashing:
        return flashing.write(image)


@pytest.mark.parametrize("name", VEHICLES)
def test_a_weak_battery(see, bench, name, tmp_path):
    sick = see(name, "weak_battery")
    assert sick.mid("supply_voltage") == pytest.approx(10.8, abs=0.1)
    if name == F:
        # Injectors open late: leaner.
        assert sick.mid("lambda_measured") > see(F).mid("lambda_measured") + 0.02
    rig = bench.rig(name)
    rig.unit.voltage = 10.8
    with pytest.raises(LinkError, match=r"supply is 10\.8 V"):
        write(rig.unit, stock_image(name, "other"), tmp_path)


@pytest.mark.parametrize("name", VEHICLES)
def test_the_wrong_image(bench, name, tmp_path):
    rig = bench.rig(name, faults={"wrong_image": 1.0})
    assert rig.unit.memory[8:24].rstrip(b"\0").decode() == FOREIGN_FAMILY
    with pytest.raises(LinkError, match=f"does not start: is no image of .* '{FOREIGN_FAMILY}'"):
        rig.pull(usual_settings(rig.plant))
    # Writing the right one cures it.
    done = write(rig.unit, stock_image(name), tmp_path)
    assert done.sectors and rig.unit.identify().running == "Stock"


def test_an_old_map_far_too_rich(see):
    sick, well = see(P, "rich_map"), see(P)
    assert sick.mid("lambda_measured") < well.mid("lambda_measured") - 0.10
    assert sick.mean < 0.95 * well.mean
    twin = see(F, "rich_map")
    flat = twin.bench.inside(twin.log, "lambda_measured", 8400, 9000)
    assert np.nanmax(flat) == np.nanmin(flat) == pytest.approx(0.685)
    diesel, clean = see(W, "rich_map"), see(W)
    assert diesel.most("smoke") > 1.5 * clean.most("smoke")


def test_bad_fuel(see):
    sick, well = see(P, "bad_fuel"), see(P)
    assert max(sick.retard) > max(well.retard) + 2.0
    assert sick.mid("spark_advance") == pytest.approx(well.mid("spark_advance"), abs=0.6)
    assert see(W, "bad_fuel").mean < 0.96 * see(W).mean


@pytest.mark.parametrize(
    ("name", "fault", "key"), [(P, "tired_pump", "rail_pressure"), (F, "plugged_filter", "airbox_pressure")]
)
def test_worse_is_worse(see, name, fault, key):
    found = [see(name, fault, s).least(key) for s in (0.2, 0.6, 1.0)]
    assert found[0] > found[1] > found[2]


def test_a_fault_switched_off_leaves_nothing(bench, healthy):
    log, conditions = bench.run(P, faults={"bad_fuel": 0.0, "tired_pump": 0.0})
    assert conditions.faults == {}
    for key, c in healthy[P][0].channels.items():
        assert np.array_equal(c.values, log.channels[key].values), key


def test_the_faults_are_the_twelve_and_say_what_they_do():
    assert len(FAULTS) == 12
    assert all(f.at_full and f.leaves and f.kinds for f in FAULTS.values())


def test_what_an_engine_cannot_have():
    with pytest.raises(LinkError, match="cannot have: stuck shutters"):
        check_faults({"stuck_shutters": 0.5}, "natural petrol")
    with pytest.raises(LinkError, match="no fault 'gremlins'"):
        check_faults({"gremlins": 0.5}, "turbo petrol")
    with pytest.raises(LinkError, match="outside 0 to 1"):
        check_faults({"bad_fuel": 1.5}, "turbo petrol")


def test_a_memory_without_a_fault_is_the_memory(bench):
    memory = stock_image(P)
    assert faulty_memory(memory, bench.layout(P), plant_for("ptarmigan-14").kind, {"bad_fuel": 1.0}) == memory
