"""Sheets of the drive: speeds in the gears, piston speed."""

from __future__ import annotations

from yarvic.core.checks.components import ComponentLimit
from yarvic.core.plan.derived import mean_piston_speed, road_speed
from yarvic.core.plan.sizing.sheet import Context, Input, Output, Sizing, Values

# Mean piston speeds: road engines to about 20 m/s, race engines to about 25.
# Common practice, no published source; Heywood (1988), ch. 2.2 gives 8 to 15 as typical of its day.
SAFE_PISTON_M_S, MOST_PISTON_M_S = 20.0, 25.0


def _ratio(at: int) -> Input:
    def of_job(c: Context) -> float | None:
        gears = c.vehicle.gears
        return gears[at] if -len(gears) <= at < len(gears) else None

    titles = {-2: "Ratio of the gear before", -1: "Ratio of the gear"}
    return Input(f"gear{at}", titles[at], "", 0.2, 30, {-2: 1.2, -1: 0.95}[at], of_job)


def _gearing(v: Values) -> list[Output]:
    now = road_speed(v["redline"], v["gear-1"], v["final"], v["radius"])
    raised = road_speed(v["raised"], v["gear-1"], v["final"], v["radius"])
    before = road_speed(v["redline"], v["gear-2"], v["final"], v["radius"])
    return [
        Output("At the rev limit in this gear", now, "km/h"),
        Output("with the limit raised", raised, "km/h"),
        Output("in the gear before", before, "km/h"),
        Output("Engine speed after the shift", v["redline"] * v["gear-1"] / v["gear-2"], "rpm"),
    ]


GEARING = Sizing(
    "gearing",
    "Gear speeds and rev limit",
    "v = 2 pi r N / (i_gear i_final), no slip",
    "kinematics of rolling",
    (
        Input("redline", "Rev limit", "rpm", 500, 25000, 6500, lambda c: c.vehicle.redline_rpm),
        # A little above: where the planning usually begins.
        Input(
            "raised", "Rev limit planned", "rpm", 500, 25000, 7000, None, ("redline",), lambda v: v["redline"] * 1.05
        ),
        _ratio(-1),
        _ratio(-2),
        Input("final", "Final drive", "", 0.5, 30, 3.9, lambda c: c.vehicle.final_drive),
        Input(
            "radius",
            "Rolling radius",
            "mm",
            100,
            1200,
            310,
            lambda c: c.vehicle.tyre_radius_mm / 1e3 if c.vehicle.tyre_radius_mm is not None else None,
        ),
    ),
    "redline",
    _gearing,
    lambda v, o: (
        f"{v['redline']:,.0f} rpm: {o[0].in_words()}, {v['raised']:,.0f} rpm: {o[1].in_words()};"
        f" the shift drops to {o[3].in_words()}"
    ),
    caution="Tyres must be rated for the speed.",
)


def _piston(v: Values) -> list[Output]:
    return [
        Output("Mean piston speed", mean_piston_speed(v["stroke"], v["speed"]), "m/s"),
        Output(f"{SAFE_PISTON_M_S:.0f} m/s is reached at", SAFE_PISTON_M_S / (2.0 * v["stroke"]) * 60.0, "rpm"),
        Output(f"{MOST_PISTON_M_S:.0f} m/s is reached at", MOST_PISTON_M_S / (2.0 * v["stroke"]) * 60.0, "rpm"),
    ]


PISTON = Sizing(
    "piston",
    "Piston speed",
    "mean speed = 2 S N",
    "Heywood (1988), eq. 2.9; 20 and 25 m/s: common practice, no published source",
    (
        Input(
            "stroke",
            "Stroke",
            "mm",
            20,
            400,
            90,
            lambda c: c.vehicle.stroke_mm / 1e3 if c.vehicle.stroke_mm is not None else None,
        ),
        Input("speed", "Engine speed", "rpm", 500, 25000, 6500, lambda c: c.vehicle.redline_rpm),
    ),
    "speed",
    _piston,
    lambda v, o: f"{v['stroke'] * 1e3:.1f} mm at {v['speed']:,.0f} rpm: {o[0].in_words()}",
    lambda v: ComponentLimit(
        key="piston_speed",
        component="pistons",
        basis="shaft",
        unit="m/s",
        safe=SAFE_PISTON_M_S,
        stretch=MOST_PISTON_M_S,
        station="cylinders",
        source="common practice, no published source",
    ),
)
