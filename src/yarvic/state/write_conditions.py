"""What is looked at before a unit is written, each with its value: supply, who it is, the image, its codes, the backup."""

from __future__ import annotations

from yarvic.core.calibration.faults import unknown_sums
from yarvic.core.calibration.image import check_image
from yarvic.core.checks.finding import PASS, STOP, WATCH
from yarvic.core.errors import CalibrationError
from yarvic.core.job.model import Revision
from yarvic.core.job.store import Job
from yarvic.core.link.unit import LEAST_VOLTAGE_V
from yarvic.core.link.vault import Vault
from yarvic.state.bench import BenchState
from yarvic.state.reading import Reading


def write_conditions(job: Job, bench: BenchState, revision: Revision | None) -> list[Reading]:
    """One reading each; none stops a write that the sequence itself would not refuse."""
    found = [_supply(bench), _identity(job, bench), _codes(bench), _backup(bench)]
    if revision is not None:
        found.append(_image(job, revision))
    return found


def _supply(bench: BenchState) -> Reading:
    volts = bench.unit.supply_voltage()
    numbers = f"{volts:.1f} V, at least {LEAST_VOLTAGE_V:.1f} V"
    if volts < LEAST_VOLTAGE_V:
        return Reading(STOP, "Battery is too low to write", numbers)
    return Reading(PASS, "Battery is on its maintainer, simulated", numbers)


def _identity(job: Job, bench: BenchState) -> Reading:
    unit, layout = bench.unit.identify(), job.layout
    if (unit.family, unit.layout_version) != (layout.family, layout.version):
        return Reading(STOP, "The unit is of another family", f"{unit.family}, the job is of {layout.family}")
    return Reading(PASS, "The unit is of the job's family", f"{unit.family}, {unit.name}")


def _codes(bench: BenchState) -> Reading:
    codes = bench.unit.fault_codes()
    if not codes:
        return Reading(PASS, "No fault code is stored", "those that a write raises are cleared after it")
    many = "1 fault code is stored" if len(codes) == 1 else f"{len(codes)} fault codes are stored"
    return Reading(WATCH, many, "; ".join(f"{c.code} {c.title}" for c in codes) + ": a write leaves them there")


def _backup(bench: BenchState) -> Reading:
    """Whether the stock image of this unit is kept: what it holds now is read and kept before each write anyway."""
    unit = bench.unit
    folder = bench.link.vault_folder
    seen = Vault(folder).seen() if folder.exists() else []
    stock = next((s for s in seen if s.stock and (s.serial, s.family) == (unit.serial, unit.layout.family)), None)
    there = f"its stock image was read on {stock.time[:10]}" if stock else "its stock image is not in the vault yet"
    return Reading(PASS, "What the unit holds is kept before it is erased", there)


def _image(job: Job, revision: Revision) -> Reading:
    try:
        check_image(job.image(revision.image), job.layout)
    except CalibrationError as error:
        return Reading(STOP, f"{revision.name} is no image of this unit", error.what)
    unknown = unknown_sums(job.layout)
    if unknown:
        return Reading(WATCH, f"Not all of {revision.name} can be checked", "; ".join(unknown))
    return Reading(PASS, f"Marks and checksums of {revision.name} are right", f"{job.layout.length:,} bytes")
