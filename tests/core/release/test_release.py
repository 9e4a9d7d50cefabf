"""The gate, the sheet and the package."""

import io
from dataclasses import replace

import numpy as np
import pytest
from pypdf import PdfReader

from yarvic.core.checks.finding import NO_DATA, PASS, STOP, WATCH, Finding, Where
from yarvic.core.checks.limits import default_limits
from yarvic.core.checks.run import FAMILIES, Summary
from yarvic.core.checks.weather import Days, Measured
from yarvic.core.evidence.repeatability import MeanCurve
from yarvic.core.job.model import Evidence, Flash, Revision, Waiver
from yarvic.core.physics.power import power_from_torque
from yarvic.core.release.gate import Case, gate, is_open
from yarvic.core.release.grounds import written
from yarvic.core.release.sheet import SheetContent, curve_peaks, customer_sheet
from yarvic.demo.ptarmigan import PTARMIGAN

IMAGE = "ab" * 32


def summary(family, severity=PASS):
    finding = Finding(
        family.lower(), severity, f"{family} is so", None, None, Where("R1", 0, 1), "a note", family=family
    )
    return Summary(family.lower(), finding, 0 if severity == PASS else 1, 3)


@pytest.fixture
def case(pulled):
    revision = Revision(2, "A1", 1, "why", "who", "2024-01-01", IMAGE, 1)
    evidence = tuple(Evidence(f"R{i}", f"pull {i}", 2, 1, "2024-01-01", "test", pulled[1]) for i in range(3))
    return Case(
        sheet=PTARMIGAN.sheet(),
        revision=revision,
        build=1,
        parts=frozenset(),
        image_fault="",
        baseline_pulls=3,
        carried=(),
        unknown_sums=(),
        outside=(),
        flashes=(Flash(2, "2024-01-01T10:00:00", "unit 1", IMAGE, 4),),
        evidence=evidence,
        pulls=3,
        summaries=tuple(summary(family) for family, _ in FAMILIES),
        band_mean_w=80e3,
        band_spread_w=300.0,
        changed_slots=("RON 95",),
        waivers=(),
        units={},
    )


def shut(case):
    return {c.key for c in gate(case) if not c.met}


def test_a_revision_that_holds_passes(case):
    assert is_open(gate(case))
    assert all(c.evidence for c in gate(case))


@pytest.mark.parametrize(
    ("change", "key", "may_waive"),
    [
        ({"image_fault": "checksum is wrong"}, "image", False),
        ({"baseline_pulls": 2}, "baseline", True),
        ({"flashes": ()}, "flashed", False),
        ({"flashes": (Flash(2, "t", "unit", "cd" * 32, 4),)}, "flashed", False),
        ({"pulls": 0}, "pulls", False),
        ({"pulls": 2}, "pulls", True),
        ({"evidence": ()}, "build", False),
        ({"build": 2}, "build", True),
        ({"changed_slots": ("RON 95", "E30")}, "fuel", True),
        ({"band_spread_w": 2000.0}, "repeats", True),
        ({"band_spread_w": float("nan")}, "repeats", True),
    ],
)
def test_each_condition_shuts_the_gate(case, change, key, may_waive):
    found = replace(case, **change)
    assert key in shut(found)
    condition = next(c for c in gate(found) if c.key == key)
    assert condition.may_waive is may_waive
    # A waiver opens what may be waived, and nothing else.
    waived = replace(
        found, waivers=(Waiver(2, key, "Rowan Sedge", "seen and accepted", "t", written(condition.grounds)),)
    )
    assert (key in shut(waived)) is (not may_waive)


@pytest.mark.parametrize(("severity", "passes"), [(PASS, True), (WATCH, True), (STOP, False), (NO_DATA, False)])
def test_checks_shut_the_gate_by_severity(case, severity, passes):
    summaries = tuple(summary(f, severity if f == "Knock" else PASS) for f, _ in FAMILIES)
    assert ("check Knock" not in shut(replace(case, summaries=summaries))) is passes


def test_a_family_without_findings_is_not_passed_over(case):
    summaries = tuple(s for s in case.summaries if s.family != "Mixture")
    assert shut(replace(case, summaries=summaries)) == {"check Mixture"}


def looked_at(case, key, **seen):
    sheet = case.sheet
    items = tuple(
        i.seen(seen["state"], seen.get("reason", ""), "R", "now") if i.key == key else i for i in sheet.readiness
    )
    return replace(case, sheet=sheet.model_copy(update={"readiness": items}))


def test_a_sick_vehicle_shuts_the_gate_and_nobody_waives_it(case):
    sick = looked_at(case, "clutch", state="stop", reason="slips in fourth")
    condition = next(c for c in gate(sick) if c.key == "ready")
    assert "ready" in shut(sick) and not condition.may_waive and "slips in fourth" in condition.evidence
    unseen = looked_at(case, "clutch", state="")
    assert "ready" not in shut(unseen) and "1 of 18" in next(c for c in gate(unseen) if c.key == "ready").evidence
    bare = replace(case, sheet=case.sheet.model_copy(update={"readiness": ()}))
    assert next(c for c in gate(bare) if c.key == "ready").severity == WATCH


def of_stage(case, title):
    """The case's revision bound to a stage of its plan."""
    plan = case.sheet.plan
    stages = tuple(
        s.model_copy(update={"revisions": (case.revision.name,) if s.title == title else ()}) for s in plan.stages
    )
    changed = case.sheet.model_copy(update={"plan": plan.model_copy(update={"stages": stages})})
    return replace(case, sheet=changed)


def test_a_map_for_other_parts_is_not_released_onto_stock_ones(case):
    """A stage's parts, and those of the stages before it, must be on the vehicle; nobody waives that."""
    staged = of_stage(case, "Stage 3")
    condition = next(c for c in gate(staged) if c.key == "prerequisites")
    assert "prerequisites" in shut(staged) and not condition.may_waive
    assert all(t in condition.evidence for t in ("Front intercooler", "High-pressure pump", "Gearbox calibration"))
    some = replace(staged, parts=frozenset({"pump-cam", "gearbox-calibration"}))
    assert "Front intercooler" in next(c for c in gate(some) if c.key == "prerequisites").evidence
    whole = replace(some, parts=some.parts | {"front-intercooler"})
    found = next(c for c in gate(whole) if c.key == "prerequisites")
    assert "prerequisites" not in shut(whole) and "G2" in found.evidence
    assert all(c.key != "prerequisites" for c in gate(of_stage(case, "no stage")))


def test_engine_and_gearbox_calibration_pair_up(case):
    staged = of_stage(case, "Stage 1")
    assert "prerequisites" not in shut(staged)
    stages = tuple(s.model_copy(update={"gearbox_calibration": ""}) for s in staged.sheet.plan.stages)
    plan = staged.sheet.plan.model_copy(update={"stages": stages})
    alone = replace(staged, sheet=staged.sheet.model_copy(update={"plan": plan}))
    condition = next(c for c in gate(alone) if c.key == "prerequisites")
    assert "prerequisites" in shut(alone) and condition.may_waive and "paired" in condition.evidence
    manual = alone.sheet.vehicle.model_copy(update={"gearbox_unit": False})
    assert "prerequisites" not in shut(replace(alone, sheet=alone.sheet.model_copy(update={"vehicle": manual})))


def test_a_stages_fuel_is_asked_of_its_evidence(case):
    staged = of_stage(case, "Stage 1")
    stages = tuple(s.model_copy(update={"fuel": "petrol-95+e30"}) for s in staged.sheet.plan.stages)
    plan = staged.sheet.plan.model_copy(update={"stages": stages})
    other = replace(staged, sheet=staged.sheet.model_copy(update={"plan": plan}))
    assert "measured on petrol-95" in next(c for c in gate(other) if c.key == "prerequisites").evidence


# -- sheet


def mean(scale=1.0):
    rpm = np.arange(1800.0, 6400.0, 50.0)
    torque = scale * (150.0 - ((rpm - 3400.0) / 600.0) ** 2)
    power = power_from_torque(torque, rpm)
    return MeanCurve(
        rpm, power, torque, np.full(rpm.shape, 200.0), np.full(rpm.shape, 1.0), 3, np.full(rpm.shape, 100.0)
    )


CONTENT = SheetContent(
    shop="Fennel Row", title="Ptarmigan, rescue buggy", revision="B2", reason="spark off", signer="Rowan Sedge",
    date="2024-03-06", before=mean(), after=mean(1.1), before_name="Stock", power_unit="kW", torque_unit="N m",
    correction_line="Corrected by SAE J1349.", gain_line="Mean gain 7 kW.", comparison_line="A test of the map.",
    conditions=["Three pulls."], changes=["Spark advance: 20 cells by -3.0 deg."], fuels=["RON 95."],
    cautions=["Local rules come first."], waivers=[], simulated=True,
)  # fmt: skip


def text_of(pdf):
    return "\n".join(page.extract_text() for page in PdfReader(io.BytesIO(pdf)).pages)


def test_the_sheet_says_it_all():
    text = text_of(customer_sheet(CONTENT))
    for part in (
        "Ptarmigan, rescue buggy", "B2", "spark off", "signed by Rowan Sedge", "SIMULATED", "kW", "N m", "rpm",
        "Solid: B2. Dashed: Stock", "Mean gain 7 kW", "A test of the map", "Spark advance: 20 cells", "RON 95",
        "Local rules come first", "Means of 3 pulls",
    ):  # fmt: skip
        assert part in text, part


def test_an_unsigned_sheet_says_so_and_waivers_are_shown():
    text = text_of(customer_sheet(replace(CONTENT, signer="", waivers=["Knock: accepted (R. S.)"], simulated=False)))
    assert "not signed yet" in text and "Knock: accepted" in text and "SIMULATED" not in text


def test_the_sheet_is_reproducible_and_grows_to_a_second_page():
    assert customer_sheet(CONTENT) == customer_sheet(CONTENT)
    long = replace(CONTENT, changes=[f"Change {i} of a table." for i in range(50)])
    reader = PdfReader(io.BytesIO(customer_sheet(long)))
    assert len(reader.pages) == 2
    assert "Change 49" in reader.pages[1].extract_text()


def test_peaks_in_words():
    assert curve_peaks(mean(), "kW", "N m").endswith("150.0 N m at 3400 rpm")
    assert " hp at" in curve_peaks(mean(), "hp", "lb-ft")


def test_the_days_that_a_job_names_are_a_condition_and_say_what_run_would_tell(case):
    def weather(days, *celsius):
        rule = default_limits().rules["exhaust_temperature"]

        def pull(c):
            value = 1100.0 + 4.0 * (c - 10.0) + 0.3 * (-1.0) ** c
            found = Finding("exhaust_temperature", PASS, "", rule, value, Where("R1", 0, 1))
            return Measured((found,), c + 273.15, 97e3)

        sheet = case.sheet.changed(days=days)
        conditions = gate(replace(case, sheet=sheet, measured=tuple(map(pull, celsius))))
        return next(c for c in conditions if c.key == "weather")

    silent = weather(Days(), 10, 12, 14, 18)
    assert silent.severity == WATCH and silent.met and "days of its pulls alone" in silent.evidence
    narrow = weather(Days(hottest_k=308.15), 16, 17, 18)
    assert (
        narrow.severity == NO_DATA
        and not narrow.met
        and "Pull at 35 degC. The pulls cover 16 to 18 degC" in narrow.evidence
    )
    holds = weather(Days(hottest_k=298.15), 8, 12, 16, 20)
    assert holds.severity == PASS and "limit 980.0 degC" in holds.evidence
    stops = weather(Days(hottest_k=328.15), 8, 16, 24, 32)
    assert stops.severity == STOP and not stops.met and stops.grounds
    assert weather(Days(hottest_k=308.15)).severity == NO_DATA, "no pull whose air is known"
