"""What is read beside Flash: the unit against the working revision, what bars a write, or where a write by file stands."""

from __future__ import annotations

from yarvic.core.calibration.faults import unknown_sums
from yarvic.core.checks.finding import NO_DATA, PASS, STOP, WATCH
from yarvic.core.job.model import Revision
from yarvic.core.plan.readiness import Readiness
from yarvic.state.reading import Reading
from yarvic.state.session import Session

SUPPLY = Reading(
    WATCH,
    "Keep the supply on while writing",
    "a unit that loses power in the middle must be recovered; alternator and starter stay off",
)


def flash_readings(session: Session) -> list[Reading]:
    """Where the working revision and the unit stand to each other, and what is looked at before a write."""
    link, revision = session.link, session.working_revision()
    assert session.job is not None
    found = [
        Reading(STOP, f"Readiness stops flashing: {i.title}", i.in_words(), step="job", panel="readiness")
        for i in Readiness(session.job.sheet.readiness).of("stop")
    ]
    if link.way.make is None:
        return found + _by_file(session, revision)
    from yarvic.state.write_conditions import write_conditions

    reach, held = link.reached(), link.holds()
    left = reach.pair_left() if reach is not None and session.busy is None else []
    if left:
        stands = link.looked.standing if link.looked is not None else None
        broken = "The write of the pair was broken off" if len(left) > 1 else "The write was broken off"
        found.append(Reading(STOP, broken, stands.sentence if stands is not None else "it is being looked at"))
    elif revision is None:
        found.append(Reading(STOP, "A draft cannot be flashed", "commit it under Maps", step="maps"))
    elif held is not None and held.image == revision.image:
        found.append(Reading(PASS, f"The unit runs {revision.name}", "its memory equals the revision's image"))
    elif reach is not None and reach.memory() is None:
        found.append(Reading(NO_DATA, "What the unit holds was not read yet", "a write reads and keeps it first"))
    else:
        name = held.name if held else "an image of no revision here"
        found.append(Reading(WATCH, f"The unit runs {name}", f"write {revision.name} to measure it"))
    return found + write_conditions(link, revision)


def _by_file(session: Session, revision: Revision | None) -> list[Reading]:
    """Where a revision stands that is written by file, and what hurts while it is."""
    from yarvic.state.by_file import steps_of, unit_in_words

    assert session.job is not None
    found = [Reading(NO_DATA, "No unit is on the link: it is written by file", f"unit: {unit_in_words(session)}")]
    steps = steps_of(session.job, revision)
    if revision is None:
        found.append(Reading(STOP, "A draft cannot be written", "commit it under Maps", step="maps"))
    elif not steps:
        found.append(Reading(NO_DATA, f"{revision.name} is not exported yet", "export it, write it, read it back"))
    elif steps[-1].kind == "exported":
        found.append(Reading(WATCH, f"{revision.name} is exported, not written", f"to {steps[-1].document.file}"))
    elif steps[-1].kind == "written":
        found.append(Reading(STOP, f"{revision.name} is written, not read back", f"by {steps[-1].name}"))
    elif steps[-1].document.equal:
        found.append(Reading(PASS, f"{revision.name} is in the unit, as read back", f"by {steps[-1].name}, by file"))
    else:
        found.append(Reading(STOP, f"The unit does not hold {revision.name}", steps[-1].document.said))
    found += [
        Reading(WATCH, f"Of the checksum nobody knows the rule: {what}", "the writer must correct it")
        for what in unknown_sums(session.job.layout)
    ]
    paired = session.job.pairing_of(revision.id) if revision is not None else None
    if paired is not None:
        numbers = f"{paired.title}: write its image too, and read it back; nobody here can ask it"
        found.append(Reading(NO_DATA, "The gearbox's unit goes with it", numbers))
    return [*found, SUPPLY]
