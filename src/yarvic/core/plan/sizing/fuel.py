"""Sheets of the fuel side: injectors, pump, ethanol blend, tank, octane."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from yarvic.core.checks.components import ComponentLimit
from yarvic.core.physics.constants import ETHANOL_RON
from yarvic.core.physics.fuel import Fuel, blend_ron, ethanol_blend, fuels
from yarvic.core.physics.sizing import (
    consumption,
    flow_at_pressure,
    fuel_mass_flow,
    injector_flow,
    power_of_injectors,
    volume_to_add,
)
from yarvic.core.plan.sizing.sheet import Context, Input, Output, Sizing, Values
from yarvic.core.units import from_canonical

# Duty at which an injector is still well controlled, and the most that may be asked of it.
# Common practice, no published source.
SAFE_DUTY, MOST_DUTY = 0.85, 0.95
# A pump runs hot and its pressure gives way near its full flow; our choice.
SAFE_OF_PUMP = 0.9
PETROL = "petrol-95"


def _power(default: float = 150.0) -> Input:
    return Input("power", "Power at the crank", "kW", 5, 2000, default, Context.crank_power_w)


def _efficiency(c: Context) -> float | None:
    """Usual at full load: 300 g/kWh of petrol, 215 of diesel. Heywood (1988), ch. 2.7: 270 and 200 at best."""
    return 0.394 if c.vehicle.ignition == "compression" else 0.276


def _by_share(of: Callable[[Fuel], float]) -> Callable[[Values], float]:
    """A property of the petrol with the stated share of ethanol."""
    return lambda v: of(ethanol_blend(fuels()[PETROL], v["ethanol"]))


ETHANOL = Input(
    "ethanol", "Ethanol in the fuel, by volume", "%", 0, 100, 0, lambda c: c.ethanol_share,
    for_engine=lambda vehicle: vehicle.ignition == "spark",
)  # fmt: skip
EFFICIENCY = Input("conversion", "Fuel conversion efficiency", "%", 10, 50, 27.6, _efficiency)
HEATING = Input(
    "heating", "Lower heating value", "MJ/kg", 15, 50, 43.5, lambda c: c.fuel.lower_heating_value,
    ("ethanol",), _by_share(lambda f: f.lower_heating_value),
)  # fmt: skip
DENSITY = Input(
    "density", "Fuel density, kg/m3", "", 600, 950, 745, lambda c: c.fuel.density, ("ethanol",),
    _by_share(lambda f: f.density),
)  # fmt: skip
STOICHIOMETRIC = Input(
    "stoichiometric", "Stoichiometric AFR", "", 6, 18, 14.6, lambda c: c.fuel.stoichiometric_afr, ("ethanol",),
    _by_share(lambda f: f.stoichiometric_afr),
)  # fmt: skip
# Consumption is no habit of an engine: the same efficiency on a fuel of less heat takes more of it.
CONSUMPTION = Input(
    "consumption", "Specific consumption", "g/kWh", 100, 1000, 300, None, ("conversion", "heating"),
    lambda v: float(consumption(v["conversion"], v["heating"])),
)  # fmt: skip
# In the order in which one follows from another.
OF_THE_FUEL = (ETHANOL, EFFICIENCY, HEATING, CONSUMPTION, DENSITY)


def _injectors(v: Values) -> list[Output]:
    rated = injector_flow(v["power"], v["consumption"], v["density"], v["count"], v["duty"])
    at_rated = flow_at_pressure(rated, v["rated_pressure"], v["pressure"])
    own = flow_at_pressure(v["flow"], v["pressure"], v["rated_pressure"])
    reach = power_of_injectors(own, v["consumption"], v["density"], v["count"], v["duty"])
    needed = v["power"] / (reach / v["duty"])
    return [
        Output("Each must flow, at its rated pressure", at_rated, "cc/min"),
        Output("Those of the size given reach", reach, "kW"),
        Output("and work for this power at a duty of", needed, "%"),
    ]


def _injector_limit(v: Values) -> ComponentLimit:
    own = flow_at_pressure(v["flow"], v["pressure"], v["rated_pressure"])
    safe, most = (
        float(power_of_injectors(own, v["consumption"], v["density"], v["count"], d)) / 1e3
        for d in (SAFE_DUTY, MOST_DUTY)
    )
    size = float(from_canonical(v["flow"], "cc/min"))
    return ComponentLimit(
        key="power", component=f"injectors, {v['count']:.0f} of {size:,.0f} cc/min", basis="crank", unit="kW",
        safe=round(safe, 1), stretch=round(most, 1), station="fuel",
        source=f"worked out: duty {SAFE_DUTY * 100:.0f} and {MOST_DUTY * 100:.0f} %",
    )  # fmt: skip


INJECTORS = Sizing(
    "injectors",
    "Injectors",
    "flow = P b / (rho n duty), by the root of pressure over rated pressure",
    "balance of fuel mass; Heywood (1988), eqs. 2.22 and 2.24, b = 1 / (eta Q); duty: common practice, no published source",
    (
        _power(),
        *OF_THE_FUEL,
        Input("count", "Injectors", "", 1, 24, 4, lambda c: c.vehicle.cylinders),
        Input("duty", "Duty at the most", "%", 20, 100, SAFE_DUTY * 100),
        Input("flow", "Size of those at hand", "cc/min", 50, 5000, 440),
        Input("rated_pressure", "their rated pressure", "bar", 1, 500, 3),
        Input("pressure", "Pressure across them", "bar", 1, 500, 3),
    ),
    "power",
    _injectors,
    lambda v, o: (
        f"{v['count']:.0f} injectors of {o[0].in_words()} feed {v['power'] / 1e3:.0f} kW; those at hand {o[1].in_words()}"
    ),
    _injector_limit,
    "Fuel under pressure: let it down before a line is opened, no fire near.",
    lambda vehicle: vehicle.injection == "port",
)


def _usual_window(c: Context) -> float:
    """A petrol engine injects in the intake and early compression stroke, a diesel near top centre. From memory."""
    return 30.0 if c.vehicle.ignition == "compression" else 220.0


def _usual_rail(c: Context) -> float:
    """Rail pressure at full load, Pa, to begin with: that of the kinds in the library. Our choice."""
    return 1650e5 if c.vehicle.injection == "common rail" else 180e5


def _window(v: Values) -> list[Output]:
    """Four-stroke: each cylinder injects once in two turns, within a window of the crank."""
    shot = fuel_mass_flow(v["power"], v["consumption"]) / v["count"] / (v["speed"] / 120.0)
    flow = flow_at_pressure(v["flow"], v["pressure"], v["rated_pressure"]) * v["density"]
    angle = shot / flow * v["speed"] * 6.0
    return [
        Output("Share of the window used", angle / v["window"], "%"),
        Output("which is", angle, "deg"),
        Output("Power that fills the window", v["power"] * v["window"] / angle, "kW"),
        Output("Fuel for each injection", shot, "mg"),
    ]


def _window_limit(v: Values) -> ComponentLimit:
    full = _window(v)[2].value / 1e3
    return ComponentLimit(
        key="power", component="injectors, by their window", basis="crank", unit="kW",
        safe=round(full * SAFE_DUTY, 1), stretch=round(full * MOST_DUTY, 1), station="fuel",
        source=f"worked out: {SAFE_DUTY * 100:.0f} and {MOST_DUTY * 100:.0f} % of the window",
    )  # fmt: skip


WINDOW = Sizing(
    "window",
    "Direct injectors",
    "angle = m_shot / (flow rho) 6 N; m_shot = P b / n / (N / 120)",
    "balance of fuel mass; Heywood (1988), eq. 2.22; the window: from memory",
    (
        _power(),
        *OF_THE_FUEL,
        Input("count", "Injectors", "", 1, 24, 4, lambda c: c.vehicle.cylinders),
        Input("speed", "Engine speed", "rpm", 500, 20000, 6000, lambda c: c.target.band_rpm[1] if c.target else None),
        Input("window", "Window of the crank", "deg", 10, 360, 220, _usual_window),
        Input("flow", "Static flow", "cc/min", 100, 20000, 830),
        Input("rated_pressure", "at a pressure of", "bar", 10, 2500, 100),
        Input("pressure", "Rail pressure", "bar", 10, 2500, 180, _usual_rail),
    ),
    "power",
    _window,
    lambda v, o: (
        f"{v['power'] / 1e3:.0f} kW at {v['speed']:,.0f} rpm fills {o[0].in_words()} of the window;"
        f" full at {o[2].in_words()}"
    ),
    _window_limit,
    "High-pressure injection cuts skin: let the rail down before a line is opened.",
    lambda vehicle: vehicle.injection != "port",
)


def _pump(v: Values) -> list[Output]:
    needed = fuel_mass_flow(v["power"], v["consumption"]) / v["density"]
    with_reserve = needed * (1.0 + v["reserve"])
    reach = v["flow"] / (1.0 + v["reserve"]) * v["density"] / v["consumption"]
    return [
        Output("The pump must flow, at its pressure", with_reserve, "L/min"),
        Output("The engine burns", needed, "L/min"),
        Output("A pump of the flow given feeds", reach, "kW"),
    ]


def _pump_limit(v: Values) -> ComponentLimit:
    full = v["flow"] * v["density"] / v["consumption"] / 1e3
    return ComponentLimit(
        key="power", component="fuel pump", basis="crank", unit="kW", safe=round(full * SAFE_OF_PUMP, 1),
        stretch=round(full, 1), station="fuel", source=f"worked out: {SAFE_OF_PUMP * 100:.0f} % and all of its flow",
    )  # fmt: skip


PUMP = Sizing(
    "pump",
    "Fuel pump",
    "flow = P b (1 + reserve) / rho",
    "balance of fuel mass; Heywood (1988), eq. 2.22",
    (
        _power(),
        *OF_THE_FUEL,
        Input("reserve", "Reserve", "%", 0, 100, 15),
        Input("flow", "Flow of the pump at hand", "L/min", 0.1, 60, 2.0),
    ),
    "power",
    _pump,
    lambda v, o: (
        f"{v['power'] / 1e3:.0f} kW asks for a pump of {o[0].in_words()}; the one at hand feeds {o[2].in_words()}"
    ),
    _pump_limit,
    "Fuel under pressure: let it down before a line is opened, no fire near.",
)


def _flow_of_blend(power_w: float, efficiency: float, share: float) -> float:
    blend = ethanol_blend(fuels()[PETROL], share)
    return float(fuel_mass_flow(power_w, consumption(efficiency, blend.lower_heating_value)) / blend.density)


def _blend(v: Values) -> list[Output]:
    """The largest share of ethanol whose flow the system gives."""
    from scipy.optimize import brentq

    flow = v["flow"] / (1.0 + v["reserve"])

    def short(share: float) -> float:
        return _flow_of_blend(v["power"], v["conversion"], share) - flow

    if short(0.0) > 0.0:
        share = float("nan")
    else:
        share = 1.0 if short(1.0) <= 0.0 else float(brentq(short, 0.0, 1.0))
    return [
        Output("The system feeds a blend of up to", share, "%"),
        Output("Flow needed on petrol", _flow_of_blend(v["power"], v["conversion"], 0.0), "L/min"),
        Output("Flow needed on E30", _flow_of_blend(v["power"], v["conversion"], 0.30), "L/min"),
        Output("Flow needed on E85", _flow_of_blend(v["power"], v["conversion"], 0.85), "L/min"),
    ]


BLEND = Sizing(
    "blend",
    "Ethanol blend",
    "flow(e) = P / (eta Q(e) rho(e)); the largest e with flow(e) under the system's",
    "balance of energy, Heywood (1988), eq. 2.24; heating values by mass, volumes ideal",
    (
        _power(),
        EFFICIENCY,
        Input("flow", "Flow of the fuel system", "L/min", 0.1, 60, 1.2),
        Input("reserve", "Reserve", "%", 0, 100, 10),
    ),
    "power",
    _blend,
    lambda v, o: (
        f"At {v['power'] / 1e3:.0f} kW the fuel system feeds a blend of up to E{np.nan_to_num(o[0].value) * 100:.0f}"
    ),
    caution="Ethanol and methanol burn with a pale flame and attack some materials: check lines and seals.",
    for_engine=lambda vehicle: vehicle.ignition == "spark",
)


def _tank(v: Values) -> list[Output]:
    low, high = sorted((v["tank"], v["source"]))
    add = float("nan")
    if low <= v["wanted"] <= high and v["source"] != v["wanted"]:
        add = float(volume_to_add(v["volume"], v["tank"], v["source"], v["wanted"]))
    return [Output("Add to the tank", add, "L"), Output("Then it holds", v["volume"] + add, "L")]


TANK = Sizing(
    "tank",
    "Litres to add to this tank",
    "V_add = V (e_wanted - e_tank) / (e_source - e_wanted)",
    "balance of ethanol; ideal mixing of volumes assumed",
    (
        Input("volume", "In the tank", "L", 0.5, 1000, 30),
        Input("tank", "Ethanol in the tank", "%", 0, 100, 10),
        Input("source", "Ethanol in what is added", "%", 0, 100, 85),
        Input("wanted", "Ethanol wanted", "%", 0, 100, 30),
    ),
    "wanted",
    _tank,
    lambda v, o: (
        f"{o[0].in_words()} of E{v['source'] * 100:.0f} to {v['volume'] * 1e3:.0f} L of E{v['tank'] * 100:.0f}"
        f" make E{v['wanted'] * 100:.0f}"
    ),
    caution="No flame, no spark, and an earthed can.",
    for_engine=lambda vehicle: vehicle.ignition == "spark",
)


def _octane(v: Values) -> list[Output]:
    return [
        Output("Octane of the blend", float(blend_ron(v["ron"], v["share"], v["density"])), "", 1),
        Output("over the petrol alone", float(blend_ron(v["ron"], v["share"], v["density"])) - v["ron"], "", 1),
        Output("Neat ethanol has", ETHANOL_RON, "", 1),
    ]


OCTANE = Sizing(
    "octane",
    "Octane of the blend",
    "RON = (1 - x) RON_petrol + x RON_ethanol, x the mole fraction of ethanol",
    "Anderson et al., Energy & Fuels 24 (2010) 6576",
    (
        Input("ron", "RON of the petrol", "", 80, 105, 95),
        Input("share", "Ethanol, by volume", "%", 0, 100, 30),
        Input("density", "Density of the petrol, kg/m3", "", 680, 800, 745),
    ),
    "share",
    _octane,
    lambda v, o: f"RON {v['ron']:.0f} with E{v['share'] * 100:.0f}: RON {o[0].in_words()}",
    for_engine=lambda vehicle: vehicle.ignition == "spark",
)
