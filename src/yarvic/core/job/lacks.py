"""What a job sheet lacks for each step: it may be unfinished, and the step that suffers says so."""

from __future__ import annotations

from dataclasses import dataclass

from yarvic.core.checks.components import OF_THE_DRIVE
from yarvic.core.job.model import JobSheet
from yarvic.core.plan.vehicle import entries


@dataclass(frozen=True)
class Lack:
    """Something that is missing: what, what it costs the step, and where it is filled in (step and panel)."""

    what: str
    costs: str
    step: str = "job"
    panel: str = "vehicle"


def lacks(sheet: JobSheet, has_maps: bool, step: str) -> list[Lack]:
    """What a step lacks, the gravest first; empty when it has all it needs."""
    found: list[Lack] = []
    v = sheet.vehicle
    if step in ("flash", "dyno", "logs", "checks", "release", "maps") and not has_maps:
        found.append(Lack("the maps", "nothing can be flashed, measured or released", "maps", ""))
    if step in ("job", "plan"):
        missing = [e.title.lower() for k, e in entries().items() if getattr(v, k) is None and k in _ASKED[step]]
        if missing:
            found.append(Lack(_listed(missing), "what follows from them has no data"))
    if step == "job" and not sheet.readiness:
        found.append(Lack("a readiness list", "a sick engine would not be noticed", panel="readiness"))
    if step in ("dyno", "checks", "release") and not v.fuels:
        found.append(Lack("the fuel of each map slot", "mixture and evidence cannot be tied to a fuel"))
    if step in ("plan", "checks", "release") and not any(m.key in OF_THE_DRIVE for m in sheet.limits):
        found.append(Lack("limits for power and torque", "the weakest link cannot be found", "plan", "limits"))
    crank = [m.component for m in sheet.limits if m.basis == "crank" and m.key in OF_THE_DRIVE]
    if step in ("plan", "checks", "release") and crank and v.loss is None:
        found.append(Lack("the drivetrain's loss", f"{_listed(crank)} is at the crank and cannot be judged"))
    if step == "plan" and sheet.plan.target is None:
        found.append(Lack("a target", "nothing is asked of the components yet", "plan", "target"))
    return found


_ASKED = {
    "job": frozenset(entries()) - {"frontal_area_m2", "drag_coefficient", "rolling_coefficient"},
    "plan": frozenset({"drivetrain_loss", "redline_rpm", "gearbox_torque_nm"}),
}


def _listed(words: list[str]) -> str:
    if len(words) > 4:
        return f"{', '.join(words[:3])} and {len(words) - 3} more"
    return " and ".join([", ".join(words[:-1]), words[-1]]) if len(words) > 1 else words[0]
