"""The release step: the gate of the working revision, its sheet, and the package."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from yarvic.core.calibration.compare import compare
from yarvic.core.calibration.image import check_image, unpack
from yarvic.core.errors import EvidenceError, ReleaseError, YarvicError
from yarvic.core.evidence.conditions import RUN_WORDS
from yarvic.core.evidence.repeatability import MeanCurve, mean_curve
from yarvic.core.formats.hex_image import image_to_hex
from yarvic.core.formats.maps import maps_to_csv, maps_to_json
from yarvic.core.job.model import Revision, Waiver, parts_on
from yarvic.core.job.store import Job
from yarvic.core.physics.correction import title as standard_title
from yarvic.core.physics.fuel import fuel
from yarvic.core.release.gate import Case, Condition, changed_slots, gate, is_open
from yarvic.core.release.package import IMAGE, build_package, json_document, write_package
from yarvic.core.release.sheet import SheetContent, curve_peaks, customer_sheet
from yarvic.state.draft import calibrations_of
from yarvic.state.gains import gain_between
from yarvic.state.readings import compared, interval_words
from yarvic.state.results import RevisionResults
from yarvic.state.session import Session
from yarvic.state.work import Asked, Progress, Work

CAUTIONS = (
    "This map is for the vehicle, build and fuel named here. Another fuel or part needs its own measurement.",
    "Emissions, inspection and warranty rules differ by place: ask a licensed workshop before use on public roads.",
)


def gate_conditions(session: Session) -> list[Condition]:
    """The gate for the working revision; empty for a draft."""
    revision, job = session.working_revision(), session.job
    if revision is None or job is None:
        return []
    return gate(_case(session, job, revision))


def _case(session: Session, job: Job, revision: Revision) -> Case:
    stock = session.revisions()[0]
    fault = ""
    try:
        image = job.image(revision.image)
        check_image(image, job.layout, source=revision.name)
        now = {slot: unpack(image, job.layout, slot, source=revision.name) for slot in job.layout.slots}
        slots = changed_slots(calibrations_of(job, stock), now)
    except YarvicError as error:
        fault, slots = str(error), ()
    results = session.results.get(revision.id) or RevisionResults(revision.id, (), (), ())
    baseline = session.results.get(stock.id)
    builds = job.builds()
    mean, spread = _band(results, session.standard, job.sheet.band_rpm)
    return Case(
        sheet=job.sheet,
        revision=revision,
        build=len(builds),
        parts=parts_on(builds),
        image_fault=fault,
        baseline_pulls=baseline.full_pulls if baseline else 0,
        flashes=tuple(job.flashes()),
        evidence=tuple(e for e in job.evidence() if e.revision_id == revision.id),
        pulls=results.full_pulls,
        summaries=results.summaries,
        band_mean_w=mean,
        band_spread_w=spread,
        changed_slots=slots,
        waivers=tuple(job.waivers(revision.id)),
        units=session.settings.units,
    )


def _band(results: RevisionResults, standard: str, band: tuple[float, float]) -> tuple[float, float]:
    curves = results.curves(standard)
    if len(curves) < 2:
        return float("nan"), float("nan")
    low = max(band[0], *(c.speed_rpm[0] for c in curves))
    high = min(band[1], *(c.speed_rpm[-1] for c in curves))
    try:
        means = np.array([c.mean_power(float(low), float(high)) for c in curves])
    except EvidenceError:
        return float("nan"), float("nan")
    return float(means.mean()), float(means.std(ddof=1))


def waive(session: Session, condition: str, name: str, reason: str) -> Waiver:
    """Set a condition aside by name. Raises JobError without name or reason."""
    revision, job = session.working_revision(), session.job
    if revision is None or job is None:
        raise ReleaseError("a draft has no gate", remedy="Commit it first.")
    done = job.waive(revision.id, condition, name, reason)
    session.bench_changed.emit()
    return done


@dataclass(frozen=True)
class Signing:
    """Everything that signing needs, captured: nothing is read from live state later."""

    revision: Revision
    results: RevisionResults
    reference: RevisionResults | None
    reference_name: str
    standard: str
    units: Mapping[str, str]
    comparison: str
    waivers: tuple[Waiver, ...]
    signer: str
    conditions: tuple[Condition, ...]


def capture(session: Session, signer: str) -> Signing:
    """The signing of the working revision against stock. Raises ReleaseError for a draft or without pulls."""
    revision, job = session.working_revision(), session.job
    if revision is None or job is None:
        raise ReleaseError("a draft cannot be released", remedy="Commit, flash and pull it first.")
    results = session.results.get(revision.id)
    if results is None or not results.at_full_throttle:
        raise ReleaseError(f"{revision.name} has no pulls at full throttle yet", remedy="Flash it and pull it first.")
    stock = session.revisions()[0]
    before = session.results.get(stock.id) if stock.id != revision.id else None
    comparison = ": ".join(compared(results, before)[1:]) if before is not None else ""
    return Signing(
        revision,
        results,
        before if before is not None and before.curves(session.standard) else None,
        stock.name,
        session.standard,
        dict(session.settings.units),
        comparison,
        tuple(job.waivers(revision.id)),
        signer.strip(),
        tuple(gate_conditions(session)),
    )


def sheet_pdf(job: Job, s: Signing, time: str) -> bytes:
    """The customer's sheet. Raises EvidenceError when no curve can be drawn."""
    curves = s.results.curves(s.standard)
    after = mean_curve(curves)
    before = mean_curve(s.reference.curves(s.standard, like=s.results)) if s.reference is not None else None
    power, torque = s.units.get("power", "kW"), s.units.get("torque", "N m")
    correction = curves[0].correction
    lines = f"Corrected by {correction.title}, factors {_range([c.correction.factor for c in curves], 3)}."
    if s.standard == "none":
        lines = "Uncorrected, as measured."
    if correction.warnings:
        lines += " " + ". ".join(w[0].upper() + w[1:] for w in correction.warnings) + "."
    if s.standard != "none":
        lines += f" Uncorrected: {curve_peaks(mean_curve(s.results.curves('none')), power, torque)}."
    stock_maps = calibrations_of(job, job.revisions()[0])
    now = calibrations_of(job, s.revision)
    changes = [f"Slot {slot}. {d.sentence()}." for slot in now for d in compare(stock_maps[slot], now[slot])]
    fitted = [f"Build {b.number}: {b.title}." for b in job.builds()[1:]]
    fuels = [
        f"Slot {slot}: {_fuel_said(key)}."
        + (
            ""
            if key in {p.evidence.conditions.fuel for p in s.results.pulls if p.evidence.conditions}
            else " Not measured."
        )
        for slot, key in job.sheet.vehicle.fuels.items()
    ]
    content = SheetContent(
        shop=job.sheet.shop,
        title=", ".join(w for w in (job.sheet.vehicle.name, job.sheet.vehicle.kind) if w),
        revision=s.revision.name,
        reason=s.revision.reason,
        signer=s.signer,
        date=time[:10],
        before=before,
        after=after,
        before_name=s.reference_name,
        power_unit=power,
        torque_unit=torque,
        correction_line=lines,
        gain_line=_gain_line(job, s, power) + _peak_line(s, before, after, power, torque),
        comparison_line=s.comparison + "." if s.comparison else "",
        conditions=_conditions(s),
        changes=[*fitted, *changes] or ["Nothing: this is the stock map."],
        fuels=fuels,
        cautions=(*_required(job, s.revision), *CAUTIONS),
        waivers=[f"{w.condition.removeprefix('check ')}: {w.reason} ({w.name}, {w.time[:10]})" for w in s.waivers],
        simulated=s.results.simulated,
    )
    return customer_sheet(content)


def _required(job: Job, revision: Revision) -> tuple[str, ...]:
    """What the stage of a revision requires, in a sentence; nothing for one of no stage."""
    sheet = job.sheet
    stage = sheet.plan.stage_of(revision.name)
    if stage is None:
        return ()
    titles = {p.key: p.title for p in sheet.parts}
    parts = ", ".join(titles[k] for k in sheet.plan.required(stage, sheet.parts))
    pair = f" Gearbox calibration: {stage.gearbox_calibration}." if stage.gearbox_calibration else ""
    return (f"{stage.title}. Requires: {parts or 'no part beyond those received'}.{pair}",)


def _fuel_said(key: str) -> str:
    f = fuel(key)
    return f"{f.title}, RON {f.ron:.0f} or higher" if f.ron > 0.0 else f.title


def _range(values: list[float], digits: int) -> str:
    low, high = f"{min(values):.{digits}f}", f"{max(values):.{digits}f}"
    return low if low == high else f"{low} to {high}"


def _conditions(s: Signing) -> list[str]:
    pulls = [p for p in s.results.at_full_throttle if p.evidence.conditions is not None]
    used = [p.evidence.conditions for p in pulls if p.evidence.conditions is not None]
    others = len(s.results.pulls) - len(pulls)
    faults = sorted({k for c in used for k in c.faults})
    return [
        f"{len(used)} pulls {RUN_WORDS[used[0].run]}, {used[0].dyno}, gear {used[0].gear},"
        f" throttle {used[0].throttle * 100:.0f} %, build {pulls[0].evidence.build}."
        + (f" Runs at other throttles, speeds or grades besides: {others}." if others else ""),
        f"Air {_range([c.pressure_pa / 100 for c in used], 0)} mbar,"
        f" {_range([c.temperature_k - 273.15 for c in used], 1)} degC,"
        f" {_range([c.relative_humidity * 100 for c in used], 0)} % humidity; fuel {fuel(used[0].fuel).title}.",
        *(
            [f"Faults were switched on at the bench: {', '.join(f.replace('_', ' ') for f in faults)}."]
            if faults
            else []
        ),
    ]


def _peak_line(s: Signing, before: MeanCurve | None, after: MeanCurve, power: str, torque: str) -> str:
    was = f" {s.reference_name}: {curve_peaks(before, power, torque)}." if before is not None else ""
    return f" {s.revision.name}: {curve_peaks(after, power, torque)}.{was}"


def _gain_line(job: Job, s: Signing, power: str) -> str:
    if s.reference is None:
        return ""
    try:
        g, assumed = gain_between(
            s.results.together(), s.reference.together(like=s.results), s.standard, job.sheet.band_rpm
        )
    except EvidenceError:
        return ""
    told = "" if g.over_band.distinguishable else " This is not distinguishable from the spread of the pulls."
    return (
        f"Mean gain over {s.reference_name}, {g.band_rpm[0]:.0f} to {g.band_rpm[1]:.0f} rpm:"
        f" {interval_words(g.over_band, power)}; {assumed}.{told}"
    )


def release_work(job: Job, s: Signing, path: Path) -> Work[str]:
    """The request that builds, writes and records the package; gives the SHA-256 of its manifest.

    Raises ReleaseError when the gate is not open or the signer has no name.
    """

    def work(progress: Progress, cancelled: Asked) -> str:
        if not is_open(list(s.conditions)):
            short = ", ".join(c.title.lower() for c in s.conditions if not c.met)
            raise ReleaseError(f"{s.revision.name} falls short: {short}", remedy="Mend it, or waive it by name.")
        if not s.signer:
            raise ReleaseError("a release is signed by name", remedy="Fill in who signs.")
        time = job.clock().isoformat(timespec="seconds")
        progress(0.1, "Drawing the sheet")
        pdf = sheet_pdf(job, s, time)
        image = job.image(s.revision.image)
        files: dict[str, bytes] = {IMAGE: image_to_hex(image).encode("ascii")}
        for slot, calibration in calibrations_of(job, s.revision).items():
            word = slot.lower().replace(" ", "-")
            files[f"maps/{word}.json"] = maps_to_json(calibration).encode("utf-8")
            files[f"maps/{word}.csv"] = maps_to_csv(calibration).encode("utf-8")
        files["evidence.json"] = json_document(_evidence_document(s))
        files["customer-sheet.pdf"] = pdf
        progress(0.7, "Packing")
        used = [p.evidence.conditions for p in s.results.pulls if p.evidence.conditions is not None]
        builds = job.builds()
        facts: dict[str, Any] = {
            "job": job.sheet.title,
            "vehicle": job.sheet.vehicle.name,
            "family": job.layout.family,
            "revision": s.revision.name,
            "reason": s.revision.reason,
            "build": f"{builds[-1].number}: {builds[-1].title}",
            "author": s.revision.author,
            "signed_by": s.signer,
            "time": time,
            "image_sha256": s.revision.image,
            "image_size": job.layout.size,
            "simulated": any(c.simulated for c in used),
            "waivers": [
                {"condition": w.condition, "name": w.name, "reason": w.reason, "time": w.time} for w in s.waivers
            ],
        }
        data, sha = build_package(files, facts)
        write_package(path, data)
        try:
            job.record_release(s.revision.id, s.signer, sha, path.name)
        except YarvicError:
            path.unlink(missing_ok=True)
            raise
        return sha

    return work


def _evidence_document(s: Signing) -> dict[str, Any]:
    """Findings and curves of every pull, canonical units, for whoever looks into the package later."""
    return {
        "kind": "yarvic evidence 1",
        "units": "canonical: Pa, K, N m, W, rpm, deg, lambda, ratios as fractions",
        "conditions_of_release": [
            {"title": c.title, "state": c.severity, "evidence": c.evidence, "waived": c.waiver is not None}
            for c in s.conditions
        ],
        "pulls": [
            {
                "evidence": p.evidence.id,
                "title": p.title,
                "build": p.evidence.build,
                "time": p.evidence.time,
                "conditions": p.evidence.conditions.model_dump() if p.evidence.conditions else None,
                "findings": [
                    {
                        "check": f.check,
                        "severity": f.severity,
                        "statement": f.statement,
                        "value": f.value,
                        "limit": f.rule.stop_canonical if f.rule else None,
                        "margin": f.margin,
                        "speed_rpm": f.where.speed_rpm,
                        "source": f.rule.source if f.rule else "",
                    }
                    for f in p.findings
                ],
                "curve": {
                    "standard": standard_title(s.standard),
                    "factor": p.curves[s.standard].correction.factor,
                    "basis": "wheel",
                    "speed_rpm": p.curves[s.standard].speed_rpm.tolist(),
                    "power_w": [round(v, 1) for v in p.curves[s.standard].power_w.tolist()],
                    "torque_nm": [round(v, 2) for v in p.curves[s.standard].torque_nm.tolist()],
                }
                if s.standard in p.curves
                else None,
            }
            for p in s.results.pulls
        ],
    }
