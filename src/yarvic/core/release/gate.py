"""The gate: what must hold before a revision may be signed, each condition with its evidence."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

from yarvic.core.calibration.compare import compare_images
from yarvic.core.calibration.image import Image
from yarvic.core.checks.finding import NO_DATA, PASS, STOP, WATCH
from yarvic.core.checks.run import WHERE_LOGGED, Summary, families_of
from yarvic.core.checks.weather import Measured, on_the_days
from yarvic.core.job.model import Carried, Evidence, Flash, JobSheet, Revision, Waiver
from yarvic.core.plan.plan import not_fitted
from yarvic.core.plan.readiness import Readiness
from yarvic.core.release.grounds import Ground, of_finding, read, shuts_gate, still_waived

# Spread of the mean power over the band, as a share of it, past which pulls do not repeat well enough to judge by.
# Our choice.
MOST_SPREAD = 0.02


@dataclass(frozen=True)
class Condition:
    """One condition: whether it holds, the sentence that shows why, and whether a named person may set it aside.

    `grounds` are what stands in its way; a waiver holds for those it was given for, and `lapsed` is one that does not
    hold any more.
    """

    key: str
    title: str
    severity: str
    evidence: str
    may_waive: bool
    grounds: tuple[Ground, ...] = ()
    waiver: Waiver | None = None
    lapsed: Waiver | None = None

    @property
    def met(self) -> bool:
        """Whether the gate lets it pass: it holds, is only to be watched, or was waived."""
        return self.severity in (PASS, WATCH) or self.waiver is not None


@dataclass(frozen=True)
class Case:
    """All that the gate looks at for one revision."""

    sheet: JobSheet
    revision: Revision
    build: int
    parts: frozenset[str]
    image_fault: str
    baseline_pulls: int
    flashes: tuple[Flash, ...]
    carried: tuple[Carried, ...]
    unknown_sums: tuple[str, ...]
    outside: tuple[str, ...]
    evidence: tuple[Evidence, ...]
    pulls: int
    summaries: tuple[Summary, ...]
    band_mean_w: float
    band_spread_w: float
    changed_slots: tuple[str, ...]
    waivers: tuple[Waiver, ...]
    units: Mapping[str, str]
    paired: str = ""  # what the gearbox's unit is to hold; empty where it has none of its own
    paired_image: str = ""
    measured: tuple[Measured, ...] = ()  # each pull's findings, with its air
    half_a_pair: str | None = ""  # why the two units do not belong together; None where nobody here can tell


def gate(case: Case) -> list[Condition]:
    """All conditions in the order of the work. The gate is open when every one is met."""
    waived = {w.condition: w for w in case.waivers}
    conditions = [
        _image(case),
        *_checksums(case),
        _ready(case),
        *_prerequisites(case),
        _baseline(case),
        _flashed(case),
        *_pair(case),
        _pulls(case),
        _build(case),
        _fuel(case),
        _repeats(case),
        *_faults(case),
        *_checks(case),
        _weather(case),
    ]
    return [_with_waiver(c, waived.get(c.key)) for c in conditions]


def _with_waiver(condition: Condition, waiver: Waiver | None) -> Condition:
    """The condition with its waiver: in force where it was given for what is found now, or for worse."""
    if not condition.may_waive:
        return condition
    grounds = condition.grounds
    if not grounds and shuts_gate(condition.severity):
        # A condition of the job itself: what it says is what was waived.
        grounds = (Ground(condition.evidence, condition.severity),)
    condition = replace(condition, grounds=grounds)
    if waiver is None or not grounds:
        return condition
    if still_waived(read(waiver.finding), grounds):
        return replace(condition, waiver=waiver)
    return replace(condition, lapsed=waiver)


def is_open(conditions: list[Condition]) -> bool:
    """Whether every condition is met."""
    return all(c.met for c in conditions)


def changed_slots(stock: Image, now: Image) -> tuple[str, ...]:
    """The fuel slots whose tables or scalars differ from the stock image."""
    return tuple(slot for slot, listed in compare_images(stock, now).items() if listed)


def set_outside(stock: Image, now: Image) -> tuple[str, ...]:
    """The titles of tables and values that hold something outside their bounds that the stock image does not hold."""
    found = []
    for slot in now:
        for key in stock.changed_keys(now, slot):
            if key in now[slot].scalars:
                value = now[slot].scalars[key]
                if value.outside() and value.value != stock[slot].scalars[key].value:
                    found.append(value.title)
            elif key in now[slot].tables:
                table, before = now[slot].tables[key], stock[slot].tables[key]
                same = before.values.shape == table.values.shape
                if (table.outside() & ((before.values != table.values) if same else True)).any():
                    found.append(table.title)
    return tuple(found)


def _image(case: Case) -> Condition:
    if case.image_fault:
        return Condition("image", "Image is whole", STOP, case.image_fault, False)
    if case.outside:
        text = f"{len(case.outside)} tables or values were set outside their bounds: {', '.join(case.outside[:3])}."
        return Condition("image", "Image is whole", STOP, text, False)
    held = "Every known checksum holds" if case.unknown_sums else "Checksum holds"
    sentence = f"{held} and every value that was changed is within its bounds; SHA-256 {case.revision.image[:12]}."
    return Condition("image", "Image is whole", PASS, sentence, False)


def _checksums(case: Case) -> list[Condition]:
    """Said only where it applies: a checksum of which nobody here knows the rule, or whether there is one."""
    if not case.unknown_sums:
        return []
    what = "; ".join(case.unknown_sums)
    text = f"{what[0].upper()}{what[1:]}. The writer must correct it, or the unit may not start."
    return [Condition("checksum", "Checksums are known", STOP, text, True)]


def _ready(case: Case) -> Condition:
    title = "Vehicle is fit to be calibrated"
    ready = Readiness(case.sheet.readiness)
    if ready.of("stop"):
        return Condition("ready", title, STOP, f"{ready.stopping()}.", False)
    if not ready.items:
        return Condition("ready", title, WATCH, "This job has no readiness list.", True)
    unseen = ready.of("")
    if unseen:
        text = f"{len(unseen)} of {len(ready.items)} items were not looked at, the first: {unseen[0].title}."
        return Condition("ready", title, WATCH, text, True)
    watched = ", ".join(i.title for i in ready.of("watch"))
    return Condition("ready", title, PASS, f"All items looked at{f'; to watch: {watched}' if watched else ''}.", True)


def _prerequisites(case: Case) -> list[Condition]:
    """What the stage of this revision requires: said only where the plan has one for it."""
    stage = case.sheet.plan.stage_of(case.revision.name)
    if stage is None:
        return []
    title = f"What {stage.title} requires is there"
    lacking = not_fitted(case.sheet.plan.required(stage, case.sheet.parts), case.parts, case.sheet.parts)
    if lacking:
        text = f"Made for a vehicle with {', '.join(lacking)}, which is not fitted. Fit it, or release another map."
        return [Condition("prerequisites", title, STOP, text, False)]
    used = {e.conditions.fuel for e in case.evidence if e.conditions is not None and e.conditions.fuel}
    if stage.fuel and used and stage.fuel not in used:
        text = f"Made for {stage.fuel}; measured on {', '.join(sorted(used))}."
        return [Condition("prerequisites", title, STOP, text, True)]
    if case.sheet.vehicle.gearbox_unit and not stage.gearbox_calibration:
        text = "The gearbox has a unit of its own, and no calibration of it is paired with this stage."
        return [Condition("prerequisites", title, STOP, text, True)]
    pair = f" Gearbox calibration: {stage.gearbox_calibration}." if stage.gearbox_calibration else ""
    return [Condition("prerequisites", title, PASS, f"All its parts are fitted.{pair}", False)]


def _baseline(case: Case) -> Condition:
    need, have = case.sheet.pulls_required, case.baseline_pulls
    text = f"{have} stock pull{'s' if have != 1 else ''}, {need} wanted."
    return _enough("baseline", "Stock baseline exists", need, have, text)


def _enough(key: str, title: str, need: int, have: int, text: str) -> Condition:
    if have >= need:
        return Condition(key, title, PASS, text, True)
    ground = Ground(title, STOP, float(have), float(need), "below", "count")
    return Condition(key, title, STOP, text, True, (ground,))


def _flashed(case: Case) -> Condition:
    title = "Written and read back equal"
    done = [f for f in case.flashes if f.image == case.revision.image]
    carried = [c for c in case.carried if c.revision_id == case.revision.id]
    if done and not (carried and carried[-1].time > done[-1].time):
        text = f"Written to {done[-1].unit} and read back equal, {done[-1].time[:16].replace('T', ' ')} UTC."
        return Condition("flashed", title, PASS, text, False)
    if any(c.kind != "exported" for c in carried):
        return _by_file(case, carried)
    text = f"{case.revision.name} was never written to a unit and read back. Flash it."
    if carried:
        text = f"{case.revision.name} was exported to {carried[-1].document.file}, and is not said to be written yet."
    return Condition("flashed", title, STOP, text, False)


def _pair(case: Case) -> list[Condition]:
    """Where the gearbox has a unit of its own that goes with the engine's: both hold what belongs together."""
    if not case.paired:
        return []
    title = "Both units of the pair are written"
    if case.half_a_pair:
        return [Condition("pair", title, STOP, f"Half a pair: {case.half_a_pair}. Write both.", False)]
    written = any(f.image == case.paired_image for f in case.flashes)
    if case.half_a_pair is None and not written:
        text = f"Nobody here knows that the gearbox's unit holds {case.paired}: write both over a link, or look."
        return [Condition("pair", title, NO_DATA, text, True)]
    return [Condition("pair", title, PASS, f"The gearbox's unit goes with it: {case.paired}.", False)]


def _by_file(case: Case, carried: list[Carried]) -> Condition:
    """What the unit was found to hold when it was read back last; what was written since is not known to be there."""
    last = next(c for c in reversed(carried) if c.kind != "exported")
    title, when = "Written and read back, by file", f"{last.time[:16].replace('T', ' ')} UTC"
    if last.kind == "written":
        text = f"{last.name} wrote {case.revision.name} by file, {when}, and nobody read it back: read it back."
        ground = Ground("written and not read back", STOP)
        return Condition("flashed", title, STOP, text, True, (ground,))
    d = last.document
    if d.equal:
        aside = (
            f" {d.aside:,} bytes that the unit itself changes, or of which nothing is known, were left aside."
            if d.aside
            else ""
        )
        text = f"{d.file} was read back by {last.name}, {when}: equal in all {d.compared:,} bytes.{aside}"
        return Condition("flashed", title, PASS, text, False)
    text = f"{d.file}, read back {when}, is not what was written: {d.said}"
    return Condition("flashed", title, STOP, text, False)


def _pulls(case: Case) -> Condition:
    need, have = case.sheet.pulls_required, case.pulls
    if have == 0:
        return Condition("pulls", "Enough pulls of its own", STOP, f"No pulls of {case.revision.name} yet.", False)
    text = f"{have} pulls of {case.revision.name}, {need} wanted."
    return _enough("pulls", "Enough pulls of its own", need, have, text)


def _build(case: Case) -> Condition:
    title = "Measured on the present build"
    others = sorted({e.on_build for e in case.evidence if e.build != case.build})
    if not case.evidence:
        return Condition("build", title, NO_DATA, "No evidence yet.", False)
    if others:
        text = (
            f"Evidence is from build {', '.join(map(str, others))}; build {case.build} is on the vehicle. Pull again."
        )
        return Condition("build", title, STOP, text, True)
    return Condition("build", title, PASS, f"All on build {case.build}.", True)


def _fuel(case: Case) -> Condition:
    title = "Each changed fuel slot has evidence"
    vehicle = case.sheet.vehicle
    bare = [
        s
        for s in case.changed_slots
        if not any(
            vehicle.ran_on(s, e.conditions) and e.conditions is not None and e.conditions.fuel == vehicle.fuel_of(s)
            for e in case.evidence
        )
    ]
    if bare:
        text = f"Slot {', '.join(bare)} was changed and has no pull of its own on its fuel."
        return Condition("fuel", title, STOP, text, True)
    text = f"Changed: {', '.join(case.changed_slots)}." if case.changed_slots else "No slot differs from stock."
    return Condition("fuel", title, PASS, text, True)


def _repeats(case: Case) -> Condition:
    title = "Pulls repeat"
    if case.pulls < 2 or not case.band_mean_w > 0.0 or case.band_spread_w != case.band_spread_w:
        return Condition("repeats", title, NO_DATA, "Too few pulls that compare: a spread needs two.", True)
    share = case.band_spread_w / case.band_mean_w
    ground = Ground("spread of the pulls", STOP, round(share * 100, 2), MOST_SPREAD * 100, unit="%")
    text = f"Mean power in the band: standard deviation {share * 100:.2f} %, limit {MOST_SPREAD * 100:.0f} %."
    if share <= MOST_SPREAD:
        return Condition("repeats", title, PASS, text, True)
    return Condition("repeats", title, STOP, text, True, (ground,))


def _faults(case: Case) -> list[Condition]:
    """Said only where it applies: evidence of a vehicle that was broken on purpose, at the simulated bench."""
    faulty = [e for e in case.evidence if e.conditions is not None and e.conditions.faults]
    if not faulty:
        return []
    names = sorted({k.replace("_", " ") for e in faulty if e.conditions is not None for k in e.conditions.faults})
    text = f"{len(faulty)} of {len(case.evidence)} runs were made with injected faults: {', '.join(names)}."
    return [Condition("faults", "Measured on a healthy vehicle", WATCH, text, True)]


def _weather(case: Case) -> Condition:
    """What the findings come to on the hottest and the coldest day and at the altitudes that the job names."""
    title = "Holds on the days it is meant for"
    if not case.sheet.days.stated:
        text = (
            "The job names no hottest and coldest day and no altitudes: it is proven for the days of its pulls alone."
        )
        return Condition("weather", title, WATCH, text, True)
    found = on_the_days(case.sheet.days, case.measured)
    if not found:
        return Condition("weather", title, NO_DATA, "Of no pull the air is known.", True)
    worst = found[0]
    not_told = sum(d.severity == NO_DATA for d in found)
    more = f" {not_told} of {len(found)} are not told." if not_told else ""
    text = f"{worst.sentence(case.units.get(worst.rule.quantity, worst.rule.unit)).rstrip('.')}.{more}"
    grounds = tuple(
        Ground(f"{d.check} at {d.temperature_k - 273.15:.0f} degC, {d.pressure_pa / 100.0:.0f} mbar", d.severity)
        for d in found
        if shuts_gate(d.severity)
    )
    return Condition("weather", title, worst.severity, text, True, grounds)


def _checks(case: Case) -> list[Condition]:
    conditions = []
    answered = {s.family for s in case.summaries}
    for family in (*families_of(case.sheet.vehicle.asked), *(f for f in WHERE_LOGGED if f in answered)):
        mine = [s for s in case.summaries if s.family == family]
        if not mine:
            conditions.append(Condition(f"check {family}", family, NO_DATA, "Not judged yet.", True))
            continue
        worst = mine[0]
        text = worst.sentence()
        numbers = worst.worst.numbers(case.units)
        grounds = tuple(of_finding(s.worst) for s in mine if shuts_gate(s.worst.severity))
        evidence = f"{text}: {numbers}" if numbers else text
        conditions.append(Condition(f"check {family}", family, worst.worst.severity, evidence, True, grounds))
    return conditions
