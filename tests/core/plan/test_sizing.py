"""Sizing sheets: against textbooks, reference libraries, balances made by hand, and the numbers of the trade."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from yarvic.core.physics import sizing as law
from yarvic.core.physics.fuel import ethanol_blend, fuel, fuels
from yarvic.core.physics.turbo import charge_temperature, compressor_outlet_temperature, compressor_power
from yarvic.core.plan.plan import Target
from yarvic.core.plan.sizing import SHEETS, Context
from yarvic.core.plan.vehicle import Vehicle
from yarvic.core.units import from_canonical, to_canonical
from yarvic.demo.jobs import DEMO_JOBS

HP = 745.69987158227


def values(key, context=None, **changed):
    """A sheet's values with some of them in their own unit."""
    sheet = SHEETS[key]
    found, _ = sheet.begin(context or Context(Vehicle(name="x")))
    for name, value in changed.items():
        found[name] = sheet.input(name).canonical(value)
    return found


def first(key, **changed):
    return SHEETS[key].compute(values(key, **changed))[0].value


# -- outside: textbooks and libraries


def test_compressor_work_of_the_textbook():
    """Cengel and Boles, Thermodynamics, the example of compressing air from 100 kPa, 300 K to 900 kPa: 263.2 kJ/kg
    isentropic (k = 1.4). The example's number is from memory.
    """
    assert compressor_power(1.0, 300.0, 9.0, 1.0) / 1e3 == pytest.approx(263.2, rel=2e-3)


def test_otto_cycle_of_the_textbook():
    """Cengel and Boles, Thermodynamics, the Otto cycle at r = 8 with cold air: 56.5 %. From memory."""
    out = SHEETS["compression"].compute(values("compression", ratio=8, new=8, gamma=1.4))
    assert out[2].value == pytest.approx(0.565, abs=5e-4) and out[0].value == 0.0


def test_consumption_of_an_efficiency():
    """Heywood (1988), eq. 2.24: at 30 % and 44 MJ/kg, 3600 / (0.30 x 44.0) g/kWh."""
    assert from_canonical(law.consumption(0.30, 44.0e6), "g/kWh") == pytest.approx(3600 / (0.30 * 44.0))


def test_exhaust_velocity_with_the_density_of_a_reference_library():
    """CoolProp's density of air; the sheet takes exhaust gas as an ideal gas of air's constant."""
    from CoolProp.CoolProp import PropsSI

    flow, temperature, pressure, bore = 0.2, 873.15, 109e3, 0.0635
    density = PropsSI("D", "T", temperature, "P", pressure, "Air")
    assert law.gas_velocity(flow, temperature, pressure, bore) == pytest.approx(
        flow / (density * math.pi / 4 * bore**2), rel=2e-3
    )


def test_air_for_a_power_with_stoichiometry_of_a_reference_library():
    """Cantera balances CH1.87 with air; fuel by mass from the consumption."""
    import cantera as ct

    gas = ct.Solution("gri30.yaml")
    # Isooctane is not in that mechanism: methane stands for a fuel whose balance both can make.
    gas.set_equivalence_ratio(1.0, "CH4", "O2:1.0, N2:3.773")  # air as Heywood has it, eq. 3.4
    afr = gas.mass_fraction_dict()["O2"] + gas.mass_fraction_dict()["N2"]
    afr /= gas.mass_fraction_dict()["CH4"]
    from yarvic.core.physics.fuel import stoichiometric_afr

    assert stoichiometric_afr(4.0) == pytest.approx(afr, rel=6e-3)
    assert law.air_mass_flow(100e3, 300e-3 / 3.6e6, afr) == pytest.approx(100e3 * 300e-3 / 3.6e6 * afr)


# -- balances made another way


def test_manifold_pressure_by_counting_cylinders():
    # 2 litres at 6,000 rpm: 50 intake strokes of 2 litres a second.
    air, charge = 0.12, 320.0
    density = air / (50 * 2e-3)
    assert law.manifold_pressure(air, 2e-3, 6000, 1.0, charge) == pytest.approx(density * 287.042 * charge)


def test_the_cooler_that_reaches_its_effectiveness_gives_the_charge_wanted():
    hot = float(compressor_outlet_temperature(293.15, 2.2, 0.70))
    needed = first("cooler", ratio=2.2, efficiency=70, ambient=20, wanted=40)
    assert charge_temperature(hot, 293.15, needed) == pytest.approx(313.15)
    assert math.isnan(first("cooler", ratio=2.2, wanted=10, ambient=20))  # under ambient


@given(st.floats(1, 500), st.integers(0, 100), st.integers(0, 100), st.integers(0, 100))
def test_what_is_added_makes_the_blend(volume, in_tank, added, asked):
    tank, source, wanted = in_tank / 100, added / 100, asked / 100
    found = (
        SHEETS["tank"].compute({"volume": volume / 1e3, "tank": tank, "source": source, "wanted": wanted})[0].value
    )
    if not np.isfinite(found):
        assert source == wanted or not min(tank, source) <= wanted <= max(tank, source)
        return
    assert found >= 0
    mixed = (volume / 1e3 * tank + found * source) / (volume / 1e3 + found)
    assert mixed == pytest.approx(wanted, abs=1e-6)


def test_tank_by_hand():
    # 30 L of E10 hold 3 L of ethanol; with x L of E85: (3 + 0.85 x) / (30 + x) = 0.30, x = 6 / 0.55.
    assert first("tank", volume=30, tank=10, source=85, wanted=30) * 1e3 == pytest.approx(6 / 0.55)
    assert math.isnan(first("tank", tank=10, source=30, wanted=50))


@settings(deadline=None)
@given(st.floats(20, 600), st.floats(0.3, 10), st.floats(0, 40))
def test_the_blend_takes_just_what_the_system_gives(power, flow, reserve):
    v = values("blend", power=power, flow=flow, reserve=reserve)
    share = SHEETS["blend"].compute(v)[0].value

    def needed(e):
        blend = ethanol_blend(fuels()["petrol-95"], e)
        return v["power"] / v["conversion"] / blend.lower_heating_value / blend.density * (1 + v["reserve"])

    if math.isnan(share):
        assert needed(0.0) > v["flow"]
    elif share == 1.0:
        assert needed(1.0) <= v["flow"] * (1 + 1e-9)
    else:
        assert needed(share) == pytest.approx(v["flow"], rel=1e-6)


@given(st.floats(10, 900), st.floats(150, 500), st.integers(1, 12), st.floats(30, 100))
def test_injectors_there_and_back(power, consumption, count, duty):
    v = values("injectors", power=power, consumption=consumption, count=count, duty=duty)
    size = SHEETS["injectors"].compute(v)[0].value
    again = SHEETS["injectors"].compute({**v, "flow": size})
    assert again[1].value == pytest.approx(v["power"])
    assert again[2].value == pytest.approx(v["duty"])


def test_flow_with_pressure_by_bernoulli():
    assert law.flow_at_pressure(1.0, 400.0, 100.0) == 2.0


def test_direct_injection_by_the_time_of_a_shot():
    v = values("window", power=100, consumption=250, density=745, count=4, speed=6000, window=200, flow=1000,
               rated_pressure=100, pressure=400)  # fmt: skip
    share, angle, full, shot = (o.value for o in SHEETS["window"].compute(v))
    fuel_s = 100 * 250e-3 / 3600
    assert shot == pytest.approx(fuel_s / 4 / 50)
    seconds = shot / (2 * 1000e-6 / 60 * 745)
    assert angle == pytest.approx(seconds * 36000) and share == pytest.approx(angle / 200)
    assert full == pytest.approx(100e3 / share)


# -- what follows from another entry moves with it


@pytest.mark.parametrize("key", ["petrol-95", "petrol-95+e30", "petrol-95+e85", "ethanol", "methanol", "diesel"])
@pytest.mark.parametrize("sheet", ["injectors", "window", "pump", "turbo", "exhaust"])
def test_consumption_follows_from_efficiency_and_heating_value(key, sheet):
    """Heywood (1988), eq. 2.24: b = 1 / (eta Q), for every fuel, and the air with it."""
    kind = "compression" if key == "diesel" else "spark"
    context = Context(Vehicle(name="x", fuels={"main": key}, ignition=kind, injection="direct"))
    v = values(sheet, context)
    assert v["heating"] == fuel(key).lower_heating_value
    assert v["consumption"] == pytest.approx(1.0 / (v["conversion"] * fuel(key).lower_heating_value))
    if "stoichiometric" in v:
        assert v["stoichiometric"] == fuel(key).stoichiometric_afr


@pytest.mark.parametrize(("share", "g_kwh"), [(0, 245), (85, 365), (100, 395)])
def test_consumption_of_blends_at_a_third(share, g_kwh):
    """At an efficiency of 0.34 about 245 g/kWh of petrol, 365 of E85, 395 of ethanol (from memory)."""
    sheet = SHEETS["injectors"]
    v, own = sheet.begin(Context(Vehicle(name="x")))
    v, written = sheet.entered(v, own, "conversion", 0.34)
    v, written = sheet.entered(v, written, "ethanol", share / 100.0)
    assert from_canonical(v["consumption"], "g/kWh") == pytest.approx(g_kwh, rel=0.012)
    assert v["density"] == pytest.approx(ethanol_blend(fuels()["petrol-95"], share / 100.0).density)


def test_injectors_for_ethanol_are_half_as_large_again():
    """The energy balance by hand: 43.5 / 26.9 the mass at 745 / 789 the volume."""
    sizes = []
    for key in ("petrol-95", "ethanol"):
        v = values("injectors", Context(Vehicle(name="x", fuels={"main": key})))
        sizes.append(SHEETS["injectors"].compute(v)[0].value)
    assert sizes[1] / sizes[0] == pytest.approx(43.5 / 26.9 * 745 / 789, rel=1e-6)


def test_air_for_a_power_hardly_depends_on_the_fuel():
    """Heat of a kilogram of stoichiometric mixture is nearly the same for petrol and ethanol: 2.8 and 2.7 MJ."""
    air = []
    for key in ("petrol-95", "ethanol"):
        v = values("turbo", Context(Vehicle(name="x", fuels={"main": key}, induction="turbo")))
        air.append(SHEETS["turbo"].compute(v)[1].value)
    assert air[1] == pytest.approx(air[0], rel=0.02)


def test_what_was_written_stays_until_its_source_moves():
    sheet = SHEETS["injectors"]
    v, own = sheet.begin(Context(Vehicle(name="x")))
    v, written = sheet.entered(v, own, "consumption", 320e-3 / 3.6e6)
    assert from_canonical(v["consumption"], "g/kWh") == pytest.approx(320)
    v, written = sheet.entered(v, written, "power", 200e3)
    assert from_canonical(v["consumption"], "g/kWh") == pytest.approx(320)
    v, written = sheet.entered(v, written, "ethanol", 0.85)
    assert from_canonical(v["consumption"], "g/kWh") == pytest.approx(3.6e9 / (0.276 * v["heating"]))
    assert "consumption" not in written and "power" in written


@pytest.mark.parametrize("key", SHEETS)
def test_sources_stand_before_what_follows_from_them(key):
    seen = set()
    for each in SHEETS[key].inputs:
        assert set(each.follows) <= seen and (each.by is None) == (not each.follows)
        assert each.key not in seen
        seen.add(each.key)


# -- the trade's numbers: common practice, no published source


def test_injectors_feed_what_the_trade_expects_of_their_size():
    """Common practice, no published source: four of 1,000 cc/min feed some 550 to 650 hp on petrol, in proportion."""
    for size in (450, 800):
        out = SHEETS["injectors"].compute(values("injectors", count=4, flow=size, density=745, consumption=335))
        assert 0.55 <= out[1].value / HP / size <= 0.65


def test_power_moves_the_air_that_the_trade_expects():
    """Common practice, no published source: 1.4 to 1.6 cfm of air for a horsepower of petrol."""
    out = SHEETS["turbo"].compute(values("turbo", power=120, ambient=25))
    assert 1.35 <= from_canonical(out[3].value, "cfm") / (120e3 / HP) <= 1.6


def test_the_worth_of_compression():
    """Common practice, no published source: two and a half steps from ten are worth 6 to 8 %."""
    out = SHEETS["compression"].compute(values("compression", ratio=10, new=12.5, gamma=1.3))
    assert 0.06 <= out[0].value <= 0.08


def test_a_little_reserve_feeds_a_third_of_ethanol_and_no_more():
    """Common practice, no published source: a stock direct-injection system feeds about E30 at the most, not E85."""
    petrol = SHEETS["blend"].compute(values("blend", power=160))[1].value
    share = first("blend", power=160, flow=from_canonical(petrol, "L/min") * 1.13, reserve=0)
    assert 0.25 <= share <= 0.45


def test_octane_of_a_blend():
    """Anderson et al., Energy & Fuels 24 (2010) 6576: RON 91 with 10 % by volume gives about 94.8."""
    assert first("octane", ron=91, share=10) == pytest.approx(94.8, abs=0.6)
    assert first("octane", ron=91, share=0) == 91 and first("octane", ron=91, share=100) == pytest.approx(108.6)


# -- every sheet


@pytest.mark.parametrize("key", SHEETS)
@pytest.mark.parametrize("job", DEMO_JOBS, ids=lambda j: j.name)
def test_every_sheet_begins_with_the_job_and_draws_its_chart(key, job):
    s, sheet = job.sheet(), SHEETS[key]
    context = Context(s.vehicle, s.plan.target, s.altitude_m, 80e3)
    if not sheet.for_engine(s.vehicle):
        return
    v, own = sheet.begin(context)
    assert set(v) == {i.key for i in sheet.inputs} and own <= set(v)
    out = sheet.compute(v)
    assert sheet.say(v, out) and sheet.formula and sheet.source
    assert all(o.in_words() for o in out)
    x, y = sheet.curve(v)
    assert x.size == y.size and np.all(np.diff(x) > 0) and np.isfinite(y).any()
    if sheet.limit is not None:
        assert sheet.limit(v).safe <= sheet.limit(v).stretch


@pytest.mark.parametrize("text", ["", "many", "-1", "1e9", "5 kg"])
def test_inputs_refuse_with_words(text):
    with pytest.raises(ValueError, match="Power at the crank"):
        SHEETS["pump"].input("power").read(text)
    assert SHEETS["pump"].input("power").read("1,200 kW") == 1.2e6


def test_power_comes_from_the_target_and_its_basis():
    v = Vehicle(name="x", drivetrain_loss=15)
    wheel = Target(quantity="power", value=85, unit="kW", basis="wheel", band_rpm=(5000, 6000))
    assert Context(v, wheel).crank_power_w() == pytest.approx(100e3)
    assert Context(Vehicle(name="x"), wheel).crank_power_w() is None
    crank = wheel.model_copy(update={"basis": "crank"})
    assert Context(Vehicle(name="x"), crank).crank_power_w() == 85e3
    assert Context(v, None, None, 85e3).crank_power_w() == pytest.approx(100e3)
    assert Context(v).crank_power_w() is None and Context(v).fuel == fuel("petrol-95")
    assert Context(v, None, 0.0).ambient_pa == pytest.approx(101325) and to_canonical(1, "L/min") > 0
