"""What is signed: everything a release is made of, captured; from it alone the sheet and the package are made."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from yarvic.core.calibration.compare import compare_images
from yarvic.core.calibration.image import Image
from yarvic.core.errors import Cancelled, EvidenceError, ReleaseError, in_plain
from yarvic.core.evidence.conditions import RUN_WORDS
from yarvic.core.evidence.repeatability import MeanCurve, mean_curve
from yarvic.core.formats.files import ascii_name
from yarvic.core.formats.images import image_to_hex
from yarvic.core.formats.maps import maps_to_csv, maps_to_json
from yarvic.core.job.model import Build, JobSheet, Revision, Waiver
from yarvic.core.physics.correction import title as standard_title
from yarvic.core.physics.fuel import fuel
from yarvic.core.release.gate import Condition, is_open
from yarvic.core.release.keys import SigningKey
from yarvic.core.release.package import EVIDENCE, IMAGE, SHEET, Built, build_package, json_document
from yarvic.core.release.sheet import SheetContent, curve_peaks, customer_sheet
from yarvic.state.gains import gain_between
from yarvic.state.readings import interval_words
from yarvic.state.requests import Request
from yarvic.state.results import RevisionResults
from yarvic.state.work import Asked, Progress

CAUTIONS = (
    "This map is for the vehicle, build and fuel named here. Another fuel or part needs its own measurement.",
    "Emissions, inspection and warranty rules differ by place: ask a licensed workshop before use on public roads.",
)


@dataclass(frozen=True)
class Signing:
    """Everything that a release is made of, as it was when the person asked; without a signer it is a draft."""

    request: Request
    sheet: JobSheet
    builds: tuple[Build, ...]
    maps: Image
    stock: Image
    time: str
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
    history: tuple[int, str]  # the lines of the journal, and the sum of the last


def packed(s: Signing, key: Callable[[], SigningKey], progress: Progress, cancelled: Asked) -> Built:
    """Build the package, signed with the key that `key` gives.

    Raises ReleaseError when the gate is not open, the signer has no name or the key cannot sign, EvidenceError when no
    curve can be drawn.
    """
    if not is_open(list(s.conditions)):
        short = ", ".join(c.title.lower() for c in s.conditions if not c.met)
        raise ReleaseError(f"{s.revision.name} does not meet: {short}", remedy="Correct it, or waive it by name.")
    if not s.signer:
        raise ReleaseError("a release is signed by name", remedy="Fill in who signs.")
    signing_key = key()
    progress(0.1, "Drawing the sheet")
    pdf = sheet_pdf(s)
    if cancelled():
        raise Cancelled("the release was cancelled", remedy="Nothing was signed or written.")
    layout = s.maps.layout
    files: dict[str, bytes] = {IMAGE: image_to_hex(s.maps.data, layout.base, layout.gaps).encode("ascii")}
    for number, (slot, calibration) in enumerate(s.maps.items(), 1):
        word = ascii_name(slot) or "slot"
        if f"maps/{word}.json" in files:
            word = f"{word}-{number}"
        files[f"maps/{word}.json"] = maps_to_json(calibration).encode("utf-8")
        files[f"maps/{word}.csv"] = maps_to_csv(calibration).encode("utf-8")
    files[EVIDENCE] = json_document(_evidence_document(s))
    files[SHEET] = pdf
    progress(0.7, "Packing")
    used = [p.evidence.conditions for p in s.results.pulls if p.evidence.conditions is not None]
    facts: dict[str, Any] = {
        "job": s.sheet.title,
        "vehicle": s.sheet.vehicle.name,
        "family": layout.family,
        "revision": s.revision.name,
        "reason": s.revision.reason,
        "build": f"{s.builds[-1].number}: {s.builds[-1].title}",
        "author": s.revision.author,
        "signed_by": s.signer,
        "time": s.time,
        "history": {"lines": s.history[0], "sha256": s.history[1]},
        "image_sha256": s.revision.image,
        "image_size": len(s.maps.data),
        "image_base": layout.base,
        "simulated": any(c.simulated for c in used),
        "waivers": [
            {"condition": w.condition, "name": w.name, "reason": w.reason, "time": w.time} for w in s.waivers
        ],
    }
    return build_package(files, facts, signing_key)


def sheet_pdf(s: Signing) -> bytes:
    """The customer's sheet. Raises EvidenceError when no curve can be drawn."""
    curves = s.results.curves(s.standard)
    after = mean_curve(curves)
    before = mean_curve(s.reference.curves(s.standard, like=s.results)) if s.reference is not None else None
    power, torque = s.units.get("power", "kW"), s.units.get("torque", "N m")
    correction = curves[0].correction
    lines = f"Corrected by {correction.title}, factors {_range([_known(c.correction.factor) for c in curves], 3)}."
    if s.standard == "none":
        lines = "Uncorrected, as measured."
    if correction.warnings:
        lines += " " + ". ".join(w[0].upper() + w[1:] for w in correction.warnings) + "."
    plain = s.results.as_measured(s.standard)
    if s.standard != "none" and plain:
        lines += f" Uncorrected: {curve_peaks(mean_curve(plain), power, torque)}."
    changes = [
        f"Slot {slot}. {d.sentence()}." if s.maps.layout.slots else f"{d.sentence()}."
        for slot, listed in compare_images(s.stock, s.maps).items()
        for d in listed
    ]
    fitted = [f"Build {b.number}: {b.title}." for b in s.builds[1:]]
    fuels = [
        f"Slot {slot}: {_fuel_text(key)}."
        + (
            ""
            if key in {p.evidence.conditions.fuel for p in s.results.pulls if p.evidence.conditions}
            else " Not measured."
        )
        for slot, key in s.sheet.vehicle.fuels.items()
    ]
    content = SheetContent(
        shop=s.sheet.shop,
        title=", ".join(w for w in (s.sheet.vehicle.name, s.sheet.vehicle.kind) if w),
        revision=s.revision.name,
        reason=s.revision.reason,
        signer=s.signer,
        date=s.time[:10] if s.signer else "",
        before=before,
        after=after,
        before_name=s.reference_name,
        power_unit=power,
        torque_unit=torque,
        correction_line=lines,
        gain_line=_gain_line(s, power) + _peak_line(s, before, after, power, torque),
        comparison_line=s.comparison + "." if s.comparison else "",
        conditions=_conditions(s),
        changes=[*fitted, *changes] or ["Nothing: this is the stock map."],
        fuels=fuels,
        cautions=(*_required(s), *CAUTIONS),
        waivers=[f"{w.condition.removeprefix('check ')}: {w.reason} ({w.name}, {w.time[:10]})" for w in s.waivers],
        simulated=s.results.simulated,
    )
    return customer_sheet(content)


def _required(s: Signing) -> tuple[str, ...]:
    """What the stage of the revision requires, in a sentence; nothing for one of no stage."""
    plan, parts_known = s.sheet.plan, s.sheet.parts
    stage = plan.stage_of(s.revision.name)
    if stage is None:
        return ()
    titles = {p.key: p.title for p in parts_known}
    parts = ", ".join(titles[k] for k in plan.required(stage, parts_known))
    pair = f" Gearbox calibration: {stage.gearbox_calibration}." if stage.gearbox_calibration else ""
    return (f"{stage.title}. Requires: {parts or 'no part beyond those received'}.{pair}",)


def _fuel_text(key: str) -> str:
    f = fuel(key)
    return f"{f.title}, RON {f.ron:.0f} or higher" if f.ron > 0.0 else f.title


def _known(factor: float) -> float | None:
    """A factor; None for one that came with a sheet's numbers and was stated nowhere."""
    return factor if factor == factor else None


def _range(values: list[float | None], digits: int) -> str:
    """The lowest and the highest of what is known; unknown where nothing is, and said where some is not."""
    known = [v for v in values if v is not None]
    if not known:
        return "unknown"
    low, high = f"{min(known):.{digits}f}", f"{max(known):.{digits}f}"
    some = " (not of all)" if len(known) < len(values) else ""
    return (low if low == high else f"{low} to {high}") + some


def _conditions(s: Signing) -> list[str]:
    pulls = s.results.at_full_throttle
    used = [p.evidence.conditions for p in pulls if p.evidence.conditions is not None]
    others = len(s.results.pulls) - len(pulls)
    said = []
    if used:
        first = used[0]
        throttle = f"throttle {_range([c.throttle and c.throttle * 100 for c in used], 0)} %"
        said = [
            f"{len(used)} pulls {RUN_WORDS[first.run]}, {first.dyno or 'dyno unknown'}, gear {first.gear or 'unknown'},"
            f" {throttle}, build {pulls[0].evidence.on_build}."
            + (f" Runs at other throttles, speeds or grades besides: {others}." if others else ""),
            f"Air {_range([c.pressure_pa and c.pressure_pa / 100 for c in used], 0)} mbar,"
            f" {_range([c.temperature_k and c.temperature_k - 273.15 for c in used], 1)} degC,"
            f" {_range([None if c.relative_humidity is None else c.relative_humidity * 100 for c in used], 0)} % humidity;"
            f" fuel {fuel(first.fuel).title if first.fuel else 'unknown'}.",
        ]
    bare = len(pulls) - len(used)
    if bare:
        count = "1 pull" if bare == 1 else f"{bare} pulls"
        said.append(f"Of {count} the conditions are unknown: nothing corrected rests on them.")
    faults = sorted({k for c in used for k in c.faults})
    if faults:
        said.append(f"Faults were injected at the bench: {', '.join(f.replace('_', ' ') for f in faults)}.")
    files = {origin.sha256: origin for p in s.results.pulls for origin in p.files}
    said += [f"Rests on the file {in_plain(o.name, 80)}, SHA-256 {sha}." for sha, o in files.items()]
    return said


def _peak_line(s: Signing, before: MeanCurve | None, after: MeanCurve, power: str, torque: str) -> str:
    was = f" {s.reference_name}: {curve_peaks(before, power, torque)}." if before is not None else ""
    return f" {s.revision.name}: {curve_peaks(after, power, torque)}.{was}"


def _gain_line(s: Signing, power: str) -> str:
    if s.reference is None:
        return ""
    try:
        g, assumed = gain_between(
            s.results.together(standard=s.standard),
            s.reference.together(like=s.results, standard=s.standard),
            s.standard,
            s.sheet.band_rpm,
        )
    except EvidenceError:
        return ""
    told = "" if g.over_band.distinguishable else " This is not distinguishable from the spread of the pulls."
    return (
        f"Mean gain over {s.reference_name}, {g.band_rpm[0]:.0f} to {g.band_rpm[1]:.0f} rpm:"
        f" {interval_words(g.over_band, power)}; {assumed}.{told}"
    )


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
                "file": p.evidence.origin.model_dump() if p.evidence.origin is not None else None,
                "curve_file": p.sheet.origin.model_dump() if p.sheet is not None and p.sheet.origin else None,
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
                    "factor": _known(p.curves[s.standard].correction.factor),
                    "basis": p.curves[s.standard].basis,
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
