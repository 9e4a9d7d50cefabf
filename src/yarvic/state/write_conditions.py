"""What is looked at before a unit is written, each with its value: supply, engine, who it is, bus, lock, codes, the image,
the backup, the vehicle's readiness.
"""

from __future__ import annotations

from collections.abc import Iterator

from yarvic.core.calibration.faults import unknown_sums
from yarvic.core.checks.finding import NO_DATA, PASS, STOP, WATCH
from yarvic.core.job.model import Revision
from yarvic.core.job.store import Job
from yarvic.core.link.look import UnitNow
from yarvic.core.link.unit import LEAST_VOLTAGE_V
from yarvic.core.plan.readiness import Readiness
from yarvic.state.link import Link
from yarvic.state.reading import Reading

MOST_DOUBTS = 4
LOCKED = {
    "once": ("The unit is locked", "open it by its port, once and for good"),
    "bench": (
        "The unit takes programming only on the bench",
        "take it out, and connect it there with its own supply",
    ),
}


def write_conditions(link: Link, revision: Revision | None) -> list[Reading]:
    """One reading each. What stops here, the sequence refuses too."""
    s = link.session
    if s.job is None:
        return []
    found = [*_of_unit(link, s.job), *_pair(link, s.job, revision), _backup(link), *_readiness(s.job)]
    if revision is not None:
        found += _image(link, s.job, revision)
    if link.writing:
        found.append(
            Reading(NO_DATA, "The unit is being written", "keep the supply on; the window can be used meanwhile")
        )
    elif s.busy is not None:
        found.append(Reading(WATCH, "Something else is under way", f"{s.busy}: wait, or cancel it"))
    else:
        found.append(Reading(PASS, "Nothing else is under way here", "nothing waits for the unit"))
    return found


def _of_unit(link: Link, job: Job) -> Iterator[Reading]:
    looked = link.looked
    if looked is None:
        yield Reading(NO_DATA, "The unit was not looked at yet", "it is asked now")
        return
    if looked.fault is not None:
        yield Reading(STOP, f"The unit cannot be asked: {looked.fault.what}", looked.fault.remedy)
    if looked.now is not None:
        now = looked.now
        yield from (_supply(now), _engine(now), _identity(now, job), _bus(now), _lock(now), _codes(now))


def _supply(now: UnitNow) -> Reading:
    supply = now.supply
    numbers = f"{supply.voltage_v:.1f} V, at least {LEAST_VOLTAGE_V:.1f} V"
    if supply.voltage_v < LEAST_VOLTAGE_V:
        return Reading(STOP, "Battery is too low to write", numbers)
    if not supply.maintained:
        return Reading(WATCH, "No maintainer holds the battery", f"{numbers}; {supply.rest_v:.1f} V without load")
    return Reading(PASS, "Battery is on its maintainer", numbers)


def _engine(now: UnitNow) -> Reading:
    if now.state.engine_runs:
        return Reading(STOP, "The engine runs", "stop it; the ignition stays on")
    return Reading(PASS, "The engine is off", "the unit says so")


def _identity(now: UnitNow, job: Job) -> Reading:
    unit, layout = now.identity, job.layout
    if (unit.family, unit.layout_version) != (layout.family, layout.version):
        wanted = f"the job is of {layout.family}"
        if unit.family == layout.family:
            wanted = f"version {unit.layout_version}, the job's is {layout.version}"
        return Reading(STOP, "The unit is of another family", f"{unit.family}, {wanted}")
    if (now.map.base, now.map.length) != (layout.base, layout.length):
        numbers = (
            f"{now.map.length:,} bytes from 0x{now.map.base:X}, the image {layout.length:,} from 0x{layout.base:X}"
        )
        return Reading(STOP, "The unit has another memory than the image", numbers)
    return Reading(PASS, "The unit is of the job's family", f"{unit.family}, {unit.name}")


def _bus(now: UnitNow) -> Reading:
    if now.others:
        heard = ", ".join(f"0x{n:X}" for n in now.others)
        return Reading(STOP, "Somebody else talks on the bus", f"heard {heard}: take other testers and loggers off")
    return Reading(PASS, "Nobody else talks on the bus", "no other tester was heard")


def _lock(now: UnitNow) -> Reading:
    if now.state.opened:
        lock = {"open": "open by its port", "once": "was opened", "bench": "is on the bench"}[now.state.lock]
        return Reading(PASS, "The unit takes programming", lock)
    return Reading(STOP, *LOCKED.get(now.state.lock, ("The unit takes no programming", "look at what locks it")))


def _codes(now: UnitNow) -> Reading:
    codes = now.codes
    if not codes:
        return Reading(PASS, "No fault code is stored", "those that a write raises are cleared after it")
    many = "1 fault code is stored" if len(codes) == 1 else f"{len(codes)} fault codes are stored"
    return Reading(WATCH, many, "; ".join(f"{c.code} {c.title}" for c in codes) + ": a write leaves them there")


def _pair(link: Link, job: Job, revision: Revision | None) -> Iterator[Reading]:
    """The gearbox's unit, where there is one: it is written with the engine's, or neither is."""
    paired = job.pairing_of(revision.id) if revision is not None else None
    if paired is None:
        if job.sheet.vehicle.gearbox_unit:
            yield Reading(
                WATCH, "The gearbox's unit is not written with it", "say which image goes with this revision"
            )
        return
    looked = link.looked
    box = looked.gearbox if looked is not None else None
    if box is None:
        said = "it is asked now" if looked is None else "check its supply, and that it is on the same bus"
        yield Reading(NO_DATA if looked is None else STOP, "The gearbox's unit does not answer", said)
        return
    wanted = paired.layout
    if (box.identity.family, box.identity.layout_version) != (wanted.family, wanted.version):
        numbers = f"{box.identity.family}, the pair is of {wanted.family}"
        yield Reading(STOP, "The gearbox's unit is of another family", numbers)
        return
    for severity, title, numbers in (
        (r.severity, r.sentence, r.numbers) for r in (_supply(box), _lock(box)) if r.severity == STOP
    ):
        yield Reading(severity, f"Gearbox: {title[0].lower()}{title[1:]}", numbers)
    yield Reading(PASS, "The gearbox's unit takes its half", f"{box.identity.name}, {paired.title}")


def _backup(link: Link) -> Reading:
    """Whether the stock image of this unit is kept: what it holds now is read and kept before each write anyway."""
    read = link.looked.stock_read if link.looked is not None else ""
    there = f"its stock image was read on {read}" if read else "its stock image is not in the vault yet"
    return Reading(PASS, "What the unit holds is kept before it is erased", there)


def _readiness(job: Job) -> list[Reading]:
    items = Readiness(tuple(job.sheet.readiness))
    stops, unseen = items.of("stop"), len(items.of(""))
    if stops:
        return []  # each is said by itself
    watched = f", {len(items.of('watch'))} to be watched" if items.of("watch") else ""
    many = f"{len(items.items) - unseen} of {len(items.items)} items were looked at, none stops{watched}"
    severity = WATCH if unseen or items.of("watch") else PASS
    title = "Readiness is not looked through" if unseen else "Readiness lets it be written"
    return [Reading(severity, title, many, step="job", panel="readiness")]


def _image(link: Link, job: Job, revision: Revision) -> Iterator[Reading]:
    found = link.image_of(revision)
    if found is None:
        yield Reading(
            NO_DATA, f"{revision.name} is being checked", "length, marks, checksums, bounds, what parts bear"
        )
        return
    if found.fault is not None:
        yield Reading(STOP, f"{revision.name} is no image of this unit", found.fault.what)
        return
    unknown = unknown_sums(job.layout)
    if unknown:
        yield Reading(WATCH, f"Not all of {revision.name} can be checked", "; ".join(unknown))
    else:
        yield Reading(PASS, f"Marks and checksums of {revision.name} are right", f"{job.layout.length:,} bytes")
    if not found.doubts:
        yield Reading(PASS, f"{revision.name} lies within its bounds", "and within what the ledger's parts bear")
    for doubt in found.doubts[:MOST_DOUBTS]:
        yield Reading(WATCH, doubt.sentence, f"by {doubt.source}", step="maps")
    if len(found.doubts) > MOST_DOUBTS:
        yield Reading(
            WATCH, f"{len(found.doubts) - MOST_DOUBTS} more values are out of bounds", "see Maps", step="maps"
        )
