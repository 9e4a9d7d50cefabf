"""Sheets of the air and exhaust side: turbo, charge cooler, compression, exhaust."""

from __future__ import annotations

from yarvic.core.physics.combustion import otto_efficiency
from yarvic.core.physics.constants import R_DRY_AIR, STANDARD_PRESSURE_PA
from yarvic.core.physics.sizing import air_mass_flow, effectiveness_needed, gas_velocity, manifold_pressure
from yarvic.core.physics.turbo import compressor_outlet_temperature, compressor_power
from yarvic.core.plan.derived import displacement_m3
from yarvic.core.plan.sizing.fuel import CONSUMPTION, EFFICIENCY, ETHANOL, HEATING, STOICHIOMETRIC
from yarvic.core.plan.sizing.sheet import Context, Input, Output, Sizing, Values

# Our choice: a Mach number of 0.15 in gas of 600 degC (590 m/s); the loss in a pipe grows with its square.
USUAL_EXHAUST_M_S = 90.0


def _power(default: float = 150.0) -> Input:
    return Input("power", "Power at the crank", "kW", 5, 2000, default, Context.crank_power_w)


def _lambda(c: Context) -> float | None:
    return 1.35 if c.vehicle.ignition == "compression" else 0.87


MIXTURE = Input("mixture", "Lambda", "lambda", 0.6, 4, 0.87, _lambda)
AMBIENT = Input("ambient", "Air in front of it", "degC", -40, 60, 20)
PRESSURE = Input("pressure", "Ambient pressure", "kPa", 50, 108, 101.3, lambda c: c.ambient_pa)


def _speed(c: Context) -> float | None:
    return c.target.band_rpm[1] if c.target is not None else c.vehicle.redline_rpm


def _turbo(v: Values) -> list[Output]:
    air = float(air_mass_flow(v["power"], v["consumption"], v["mixture"] * v["stoichiometric"]))
    manifold = float(manifold_pressure(air, v["displacement"], v["speed"], v["filling"], v["charge"]))
    ratio = (manifold + v["loss"]) / (v["pressure"] - v["inlet_loss"])
    density = v["pressure"] / (R_DRY_AIR * v["ambient"])
    out = float(compressor_outlet_temperature(v["ambient"], max(ratio, 1.0), v["efficiency"]))
    return [
        Output("Pressure ratio of the compressor", ratio, "", 2),
        Output("Air flow", air, "kg/s"),
        Output("Air flow", air, "lb/min"),
        Output("Air flow at the intake", air / density, "cfm"),
        Output("Manifold pressure, absolute", manifold, "kPa"),
        Output("Compressor outlet", out, "degC"),
        Output(
            "Compressor power", float(compressor_power(air, v["ambient"], max(ratio, 1.0), v["efficiency"])), "kW"
        ),
    ]


TURBO = Sizing(
    "turbo",
    "Turbo: flow and pressure",
    "m = P b lambda AFR_st; p_m = m R T / (eta_v V N / 2); ratio = (p_m + loss) / (p - inlet loss)",
    "Heywood (1988), eqs. 2.22, 2.27 and 6.42",
    (
        _power(),
        ETHANOL,
        EFFICIENCY,
        HEATING,
        CONSUMPTION,
        MIXTURE,
        STOICHIOMETRIC,
        Input("displacement", "Displacement", "cm3", 50, 30000, 2000, lambda c: displacement_m3(c.vehicle)),
        Input("speed", "Engine speed", "rpm", 500, 20000, 6000, _speed),
        Input("filling", "Cylinder filling", "%", 40, 130, 95),
        Input("charge", "Charge temperature", "degC", -20, 150, 45),
        AMBIENT,
        PRESSURE,
        Input("loss", "Lost on the way to the manifold", "kPa", 0, 60, 8),
        Input("inlet_loss", "Lost before the compressor", "kPa", 0, 30, 3),
        Input("efficiency", "Compressor efficiency", "%", 40, 85, 70),
    ),
    "power",
    _turbo,
    lambda v, o: (
        f"{v['power'] / 1e3:.0f} kW at {v['speed']:,.0f} rpm: {o[3].in_words()} ({o[2].in_words()})"
        f" at a pressure ratio of {o[0].in_words()}"
    ),
    for_engine=lambda vehicle: vehicle.boost_controlled,
)


def _cooler(v: Values) -> list[Output]:
    hot = float(compressor_outlet_temperature(v["ambient"], v["ratio"], v["efficiency"]))
    needed = float(effectiveness_needed(hot, v["wanted"], v["ambient"])) if hot > v["ambient"] else float("nan")
    if not 0.0 <= needed <= 1.0:
        needed = float("nan")
    heat = v["air"] * 1005.0 * (hot - v["wanted"])
    return [
        Output("Effectiveness needed", needed, "%"),
        Output("Air enters it at", hot, "degC"),
        Output("Heat to be removed", heat, "kW"),
        Output("Denser by", hot / v["wanted"] - 1.0, "%"),
    ]


COOLER = Sizing(
    "cooler",
    "Charge cooler",
    "effectiveness = (T_hot - T_wanted) / (T_hot - T_ambient)",
    "Incropera, Fundamentals of Heat and Mass Transfer, eq. 11.19; T_hot by Heywood (1988), eq. 6.42",
    (
        Input("ratio", "Pressure ratio", "", 1.05, 5, 2.2),
        Input("efficiency", "Compressor efficiency", "%", 40, 85, 70),
        AMBIENT,
        Input("wanted", "Charge wanted", "degC", -20, 120, 40),
        Input("air", "Air flow", "g/s", 1, 3000, 120),
    ),
    "wanted",
    _cooler,
    lambda v, o: (
        f"A charge of {v['wanted'] - 273.15:.0f} degC at a ratio of {v['ratio']:.2f} asks for {o[0].in_words()}"
    ),
    for_engine=lambda vehicle: vehicle.boost_controlled,
)


def _compression(v: Values) -> list[Output]:
    before, after = (float(otto_efficiency(v[k], v["gamma"])) for k in ("ratio", "new"))
    return [
        Output("Efficiency and torque change by", after / before - 1.0, "%"),
        Output("which is, of this power,", v["power"] * (after / before - 1.0), "kW"),
        Output("Ideal efficiency before", before, "%"),
        Output("and after", after, "%"),
    ]


COMPRESSION = Sizing(
    "compression",
    "Compression ratio and its worth",
    "eta = 1 - r^(1 - gamma); what it brings is eta_new / eta_old - 1, as long as the spark stays at its best",
    "ideal constant-volume cycle, Heywood (1988), eq. 5.31; gamma 1.3 for mixture with burned gas",
    (
        Input("ratio", "Ratio now", "", 5, 24, 9.5, lambda c: c.vehicle.compression_ratio),
        Input("new", "Ratio planned", "", 5, 24, 10.5),
        Input("gamma", "gamma", "", 1.15, 1.4, 1.3),
        _power(180.0),
    ),
    "new",
    _compression,
    lambda v, o: (
        f"{v['ratio']:.1f} to {v['new']:.1f} to 1: {o[0].in_words()}, {o[1].in_words()} of {v['power'] / 1e3:.0f} kW"
    ),
    caution="Above what the fuel allows, knock limits it: see the octane of the blend.",
    for_engine=lambda vehicle: vehicle.ignition == "spark",
)


def _exhaust(v: Values) -> list[Output]:
    fuel = v["power"] * v["consumption"]
    flow = fuel * (1.0 + v["mixture"] * v["stoichiometric"])
    speed = float(gas_velocity(flow / v["pipes"], v["temperature"], v["pressure"], v["diameter"]))
    wanted = v["diameter"] * (speed / USUAL_EXHAUST_M_S) ** 0.5
    return [
        Output("Mean velocity in the pipe", speed, "m/s"),
        Output("Exhaust flow", flow, "g/s"),
        Output(f"Bore for {USUAL_EXHAUST_M_S:.0f} m/s", wanted, "mm"),
    ]


EXHAUST = Sizing(
    "exhaust",
    "Exhaust velocity",
    "v = m R T / (p A), m of fuel and air together",
    "continuity for an ideal gas; 90 m/s, a Mach number of 0.15 at 600 degC: our choice",
    (
        _power(),
        ETHANOL,
        EFFICIENCY,
        HEATING,
        CONSUMPTION,
        MIXTURE,
        STOICHIOMETRIC,
        Input("diameter", "Inner diameter", "mm", 15, 200, 60),
        Input("pipes", "Pipes side by side", "", 1, 8, 1),
        Input("temperature", "Gas temperature", "degC", 100, 1100, 600),
        Input("pressure", "Pressure in it, absolute", "kPa", 80, 400, STANDARD_PRESSURE_PA / 1e3 + 8),
    ),
    "diameter",
    _exhaust,
    lambda v, o: f"{v['power'] / 1e3:.0f} kW through {v['diameter'] * 1e3:.1f} mm: {o[0].in_words()}",
    caution="Catalyst or filter stays in place on a road vehicle, or a lawful substitute goes in; noise has its own rules.",
)
