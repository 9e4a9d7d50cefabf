"""Engines with a known fault, and as many sound ones, pulled in all weathers and logged in several dialects: what the
checks find of it, and which cause they name.
"""

from __future__ import annotations

import tempfile
from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from functools import cache
from pathlib import Path
from random import Random

from yarvic.bench.cell import Weather
from yarvic.bench.faults import FAULTS, faulty_memory
from yarvic.bench.loggers import STYLES, write_log
from yarvic.bench.rig import Rig, usual_settings
from yarvic.bench.unit import SimulatedUnit
from yarvic.bench.vehicles import layout_text, plant_for
from yarvic.core.calibration.image import check_image
from yarvic.core.calibration.layout import Layout
from yarvic.core.calibration.layout_file import parse_layout
from yarvic.core.checks.against_baseline import kind_of
from yarvic.core.checks.baseline import Baseline
from yarvic.core.checks.causes import causes
from yarvic.core.checks.evidence_of_pull import EngineKind
from yarvic.core.checks.finding import STOP, WATCH, Finding
from yarvic.core.checks.limits import default_limits
from yarvic.core.checks.run import CheckedPull, check_log
from yarvic.core.checks.signature import signature
from yarvic.core.errors import CalibrationError
from yarvic.core.evidence.conditions import Conditions
from yarvic.core.evidence.log import Log
from yarvic.core.evidence.mapping import Facts
from yarvic.core.formats.logs.import_log import import_logs
from yarvic.core.physics.air import Air
from yarvic.core.physics.fuel import fuel as fuel_by_key
from yarvic.demo.fieldfare import FROST
from yarvic.demo.mended import VEHICLES, mended_image
from yarvic.demo.ptarmigan import MILD
from yarvic.demo.wether import COLD

HOME: dict[str, Air] = {"ptarmigan": MILD, "wether": COLD, "fieldfare": FROST}
SIZES = (0.25, 0.5, 1.0)
PULLS = 3
# How far the day may lie from that of the baseline.
LEAST_K, MOST_K, PRESSURE_SHARE = -8.0, 10.0, 0.03
DIALECTS = ("", *STYLES)
# The families in which a fault is to be found, and the causes that name it.
BELONGS: dict[str, tuple[tuple[str, ...], tuple[str, ...]]] = {
    "weak_injector": (("Mixture", "Power and torque"), ("weak_injector", "weak_injector_diesel")),
    "tired_pump": (("Fuel pressure",), ("tired_pump",)),
    "boost_leak": (("Boost",), ("boost_leak", "boost_leak_diesel")),
    "slipping_clutch": (("Drivetrain",), ("slipping_clutch",)),
    "stuck_shutters": (("Charge air",), ("stuck_shutters",)),
    "plugged_filter": (("Filling", "Boost"), ("plugged_filter", "plugged_filter_natural")),
    "failing_coil": (("Ignition and supply",), ("failing_coil",)),
    "drifting_wideband": (("Mixture",), ("drifting_wideband",)),
    "weak_battery": (("Ignition and supply",), ("weak_battery",)),
    "rich_map": (("Mixture",), ("rich_map",)),
    "bad_fuel": (("Knock", "Power and torque"), ("bad_fuel", "bad_fuel_diesel")),
    "wrong_image": ((), ()),
}


@dataclass(frozen=True)
class Case:
    """One engine, sound (no fault) or not, on one day, its logs in one dialect (empty: as recorded)."""

    seed: int
    engine: str
    fault: str
    size: float
    air: Air
    dialect: str


@dataclass(frozen=True)
class Outcome:
    """What was made of a case: checks that watch or stop by severity, whether the fault was found where it belongs, and
    the place of its cause (1 is first, 0 is none).
    """

    case: Case
    watches: tuple[str, ...]
    stops: tuple[str, ...]
    found: bool
    place: int
    first: str = ""


@dataclass
class Tally:
    """All cases."""

    outcomes: list[Outcome] = field(default_factory=list)

    def faulty(self) -> dict[tuple[str, str, float], list[Outcome]]:
        """Those with a fault, by fault, engine and size."""
        made: dict[tuple[str, str, float], list[Outcome]] = {}
        for o in self.outcomes:
            if o.case.fault:
                made.setdefault((o.case.fault, o.case.engine, o.case.size), []).append(o)
        return dict(sorted(made.items()))

    def clean(self) -> list[Outcome]:
        """The sound ones."""
        return [o for o in self.outcomes if not o.case.fault]


def case(seed: int) -> Case:
    """The case of a seed: every second one is sound; engines, faults, sizes and dialects take turns."""
    random = Random(seed)
    engine = VEHICLES[(seed // 2) % len(VEHICLES)]
    turn = seed // (2 * len(VEHICLES))
    kind = plant_for(_layout(engine).family).kind
    faults = [f.key for f in FAULTS.values() if kind in f.kinds]
    home = HOME[engine]
    air = Air(
        home.pressure_pa * (1.0 + random.uniform(-PRESSURE_SHARE, PRESSURE_SHARE)),
        home.temperature_k + random.uniform(LEAST_K, MOST_K),
        home.relative_humidity,
    )
    dialect = DIALECTS[turn % len(DIALECTS)]
    if seed % 2:
        return Case(seed, engine, "", 0.0, air, dialect)
    return Case(seed, engine, faults[turn % len(faults)], SIZES[(turn // len(faults)) % len(SIZES)], air, dialect)


def campaign(seeds: Iterable[int]) -> Tally:
    """The cases of these seeds, one after the other."""
    return Tally([tried(case(seed)) for seed in seeds])


def tried(tried_case: Case) -> Outcome:
    """Pull three times, judge the logs, and see what was found."""
    if tried_case.fault == "wrong_image":
        return _wrong_image(tried_case)
    pulls = [
        p
        for place, (log, conditions) in enumerate(_pulled(tried_case))
        for p in _judged(tried_case, log, conditions, place)
    ]
    findings = [f for p in pulls for f in p.findings]
    families, named = BELONGS.get(tried_case.fault, ((), ()))
    ranked = causes(findings, [p.off for p in pulls], kind_of(engine_kind(tried_case.engine))).ranked
    keys = [r.key for r in ranked]
    place = next((n for n, key in enumerate(keys, 1) if key in named), 0)
    wrong = [f for f in findings if f.severity in (WATCH, STOP)]
    return Outcome(
        tried_case,
        _checks(wrong, WATCH),
        _checks(wrong, STOP),
        any(f.family in families for f in wrong),
        place,
        keys[0] if keys else "",
    )


def _checks(found: Iterable[Finding], severity: str) -> tuple[str, ...]:
    return tuple(sorted({f.check for f in found if f.severity == severity}))


def _wrong_image(tried_case: Case) -> Outcome:
    """An image of another family is no matter of a pull: the unit's marks tell it, before anything is started."""
    layout = _layout(tried_case.engine)
    memory = faulty_memory(
        mended_image(tried_case.engine), layout, plant_for(layout.family).kind, {"wrong_image": tried_case.size}
    )
    try:
        check_image(memory, layout)
    except CalibrationError:
        return Outcome(tried_case, (), ("identification",), True, 1, "wrong_image")
    return Outcome(tried_case, (), (), False, 0)


def _pulled(tried_case: Case) -> list[tuple[Log, Conditions]]:
    faults = {tried_case.fault: tried_case.size} if tried_case.fault else {}
    rig = _rig(tried_case.engine, tried_case.air, 1000 + tried_case.seed, faults)
    return [rig.pull(usual_settings(rig.plant)) for _ in range(PULLS)]


def _rig(engine: str, air: Air, seed: int, faults: dict[str, float]) -> Rig:
    layout = _layout(engine)
    plant = plant_for(layout.family)
    unit = SimulatedUnit(layout, faulty_memory(mended_image(engine), layout, plant.kind, faults))
    return Rig(plant, unit, layout.sets[0], Weather(air, 9.0, True, seed), fuel=plant.fuel, seed=seed, faults=faults)


def _judged(tried_case: Case, log: Log, conditions: Conditions, place: int) -> list[CheckedPull]:
    by = replace(baseline(tried_case.engine), place=place)
    kind = engine_kind(tried_case.engine)
    return check_log("campaign", _through(log, tried_case), default_limits(), conditions, kind, baseline=by)


def _through(log: Log, tried_case: Case) -> Log:
    """The log as a logger of the dialect writes it and the importer reads it."""
    if not tried_case.dialect:
        return log
    style, ratio = STYLES[tried_case.dialect], fuel_by_key(plant_for(_layout(tried_case.engine).family).fuel)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "log.csv"
        path.write_text(write_log(log, style, stoichiometric_afr=ratio.stoichiometric_afr), encoding="utf-8")
        facts = Facts(tried_case.air.pressure_pa, ratio.stoichiometric_afr)
        return import_logs(path, facts=facts)[0].log


@cache
def _layout(engine: str) -> Layout:
    return parse_layout(layout_text(engine))


@cache
def engine_kind(engine: str) -> EngineKind:
    """What of a demo engine decides which questions can be asked of it."""
    plant = plant_for(_layout(engine).family)
    diesel, natural = plant.kind == "turbo diesel", plant.kind == "natural petrol"
    return EngineKind(
        "compression" if diesel else "spark", not natural, not natural, not natural, plant.engine.cylinders
    )


@cache
def baseline(engine: str) -> Baseline:
    """Three pulls of the sound engine on its home day."""
    rig = _rig(engine, HOME[engine], 7, {})
    found = []
    for _ in range(PULLS):
        log, conditions = rig.pull(usual_settings(rig.plant))
        checked = check_log("baseline", log, default_limits(), conditions, engine_kind(engine))[0]
        found.append(signature(log, checked.pull, conditions, checked.curve))
    return Baseline("the baseline", tuple(found))
