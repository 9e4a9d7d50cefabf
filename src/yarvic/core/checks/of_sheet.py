"""A dyno sheet read without a job: what the command line prints, as one document a run."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np

from yarvic.core.checks.of_file import column_document
from yarvic.core.errors import FormatError, YarvicError
from yarvic.core.evidence.dictionary import Dictionary
from yarvic.core.evidence.dyno import Curve
from yarvic.core.evidence.log import Log
from yarvic.core.evidence.mapping import Column, CurveSaid, Mapping
from yarvic.core.evidence.sheet.curve import BASIS, CORRECTED, sheet_curve, sheet_fault, sheet_questions
from yarvic.core.evidence.taking import no_time
from yarvic.core.formats.logs.import_log import Recording, read_file
from yarvic.core.physics.correction import STANDARDS


@dataclass(frozen=True)
class Told:
    """What is said of a sheet beside it: `curve` and `conditions` by their fields, and the altitude of the shop in m.

    `standard` is the one by which it is asked for; empty for the numbers as they were measured, or as the sheet has
    them where those are not known.
    """

    standard: str = ""
    curve: dict[str, Any] = field(default_factory=dict)
    conditions: dict[str, Any] = field(default_factory=dict)
    altitude_m: float | None = None
    mapping: Mapping | None = None
    words: Dictionary | None = None


def read_sheet(path: Path, told: Told) -> list[dict[str, Any]]:
    """A document for each run of a sheet: columns, conditions, curve, peaks, questions, faults.

    Raises FormatError for a file that is no dyno sheet.
    """
    found = read_file(path, lambda raw: told.mapping, told.words, altitude_m=told.altitude_m)
    sheets = [r for r in found if r.raw.sheet]
    if not sheets:
        if all(r.raw.clock == "row" for r in found):
            raise no_time(found[0].raw, str(path))
        raise FormatError(
            "is a log, and no dyno sheet: there is no power or torque over a speed in it",
            concerns=str(path),
            remedy="Read it by `yarvic check`.",
        )
    return [_document(path, each, told) for each in sheets]


def _document(path: Path, run: Recording, told: Told) -> dict[str, Any]:
    assert run.said is not None and run.understood.curve is not None
    conditions = run.said.conditions.changed(**told.conditions)
    said = run.understood.curve.changed(**told.curve)
    notes = [*run.raw.notes, *run.said.notes]
    log = run.log(run.understood)
    questions = sheet_questions(log, said)
    fault = sheet_fault(log, said, run.understood.columns, conditions)
    # Weather is asked for only where a standard needs it.
    asked = [f"{q[0].upper()}{q[1:]}" for k, q in run.said.asked.items() if k not in _settled(told)]
    curve = None
    if not questions and not fault:
        curve = sheet_curve(log, said, run.understood.columns, conditions)
    shown, by, why = _shown(curve, told.standard, conditions)
    if not fault and questions and all(q in (BASIS, CORRECTED) for q in questions):
        # As it stands: whoever knows the rest may read it; nothing is judged by it.
        shown = _as_it_stands(log, said, run.understood.columns)
    if shown is not None and curve is not None and shown is not curve and curve.correction.standard != "none":
        was = curve.correction
        notes.append(f"its numbers came corrected by {was.title}: that factor of {was.factor:.3f} was taken off")
    if why:
        questions.append(why)
        questions += asked
    else:
        notes += asked
    return {
        "file": str(path),
        "run": run.raw.part,
        "sha256": run.origin.sha256,
        "date": run.origin.started,
        "basis": said.basis,
        "corrected_by": said.corrected_by,
        "standard": by if curve is not None else "",
        "conditions": conditions.model_dump(mode="json", exclude={"faults"}),
        "questions": questions,
        "faults": [fault] if fault else [],
        "notes": notes,
        "columns": [column_document(c, log) for c in run.understood.columns],
        "curve": None if shown is None else _curve(shown),
    }


def _as_it_stands(log: Log, said: CurveSaid, columns: tuple[Column, ...]) -> Curve:
    """The numbers of a sheet whose basis or correction is not known; its factor is not known either."""
    told = said.changed(basis=said.basis or "wheel", corrected_by=said.corrected_by or "none")
    curve = sheet_curve(log, told, columns, None)
    return replace(curve, correction=replace(curve.correction, factor=float("nan")))


def _settled(told: Told) -> set[str]:
    names = {"pressure_pa": "pressure", "temperature_k": "temperature", "relative_humidity": "humidity"}
    return {names.get(k, k) for k in told.conditions}


def _shown(curve: Curve | None, standard: str, conditions: Any) -> tuple[Curve | None, str, str]:
    """The curve by the standard that is asked for, that standard, and why there is none."""
    if curve is None:
        return None, standard, ""
    wanted = [standard] if standard else ["none", curve.correction.standard]
    why = ""
    for each in wanted:
        try:
            return curve.corrected(conditions, each, boost_controlled=False), each, ""
        except YarvicError as error:
            why = str(error)
    return None, standard, why


def _curve(curve: Curve) -> dict[str, Any]:
    power, torque = curve.peak_power, curve.peak_torque
    factor = curve.correction.factor
    return {
        "factor": factor if np.isfinite(factor) else None,
        "warnings": list(curve.correction.warnings),
        "peak_power_w": power[0],
        "peak_power_rpm": power[1],
        "peak_torque_nm": torque[0],
        "peak_torque_rpm": torque[1],
        "speed_rpm": curve.speed_rpm.tolist(),
        "power_w": curve.power_w.tolist(),
        "torque_nm": curve.torque_nm.tolist(),
    }


def check_standard(standard: str) -> None:
    """Raise FormatError for a standard that is none of ours."""
    if standard and standard not in STANDARDS:
        raise FormatError(
            f"correction standard {standard!r} is unknown",
            concerns="--standard",
            remedy=f"Use {', '.join(STANDARDS)}.",
        )
