"""The link: acts that read the unit and write it, or both units of a pair; nobody else touches them meanwhile."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

from psygnal import Signal

from yarvic.core.errors import JobError, LinkError, NotReadyError, YarvicError
from yarvic.core.job.model import Pairing
from yarvic.core.link.by_file import without_aside
from yarvic.core.plan.readiness import Readiness
from yarvic.state.looking import Looking
from yarvic.state.reach.door import BY, Reach
from yarvic.state.work import Asked, Progress

if TYPE_CHECKING:
    from yarvic.core.link.pair import Pair
    from yarvic.core.link.sectors import Step
    from yarvic.core.link.sequence import Written
    from yarvic.core.link.vault import Sighting

# Of a write, where each of its parts begins and how much of it that is.
SHARES = {
    "Identifying": (0.0, 0.0), "Unlocking": (0.2, 0.0), "Clearing codes": (0.6, 0.0), "Starting": (1.0, 0.0),
    "Reading": (0.0, 0.2), "Writing": (0.2, 0.3), "Restoring": (0.2, 0.3), "Comparing": (0.5, 0.1), "Key off": (0.6, 0.4),
}  # fmt: skip


class Link(Looking):
    """`step_came` brings the request of a write, and the Step it is at."""

    step_came = Signal(object, object)

    def write(self, *, everything: bool = False) -> None:
        """Write the working revision into the unit: what differs, or all of it."""
        s = self.session
        revision, job = s.working_revision(), s.job
        if job is None or self.way.make is None:
            return
        if revision is None:
            s.say("Commit the draft first: only a revision is flashed.", trouble=True)
            return
        image, made_here = job.image(revision.image), {r.image for r in job.revisions()[1:]}
        name, vehicle = revision.name, job.sheet.title

        def prepare(reach: Reach) -> None:
            _ready_to_flash(job.sheet.readiness, read_only=job.read_only)
            if paired is not None and reach.gearbox is None:
                raise LinkError(
                    "the gearbox's unit cannot be reached this way",
                    remedy="Choose another way, or write both by file.",
                )
            if reach.pair_left():
                raise LinkError(
                    "a write into this unit was broken off",
                    remedy="Go on with it, or put the backup back; then write.",
                )

        paired = job.pairing_of(revision.id)
        other = job.image(paired.image) if paired is not None else None
        about: dict[str, Any] = {
            "everything": everything,
            "made_here": made_here,
            "revision": name,
            "vehicle": vehicle,
        }

        def talk(units: Pair, reach: Reach) -> tuple[Written | None, Written | None]:
            more = {**about, "job": reach.job, "by": reach.key}
            if other is None or units.gearbox is None:
                return units.engine.write(image, **more), None
            from yarvic.core.link.pair import write_pair  # the protocol is not needed before something is written

            return write_pair(units, image, other, **more)

        def apply(results: tuple[Written | None, Written | None], reach: Reach) -> None:
            result, second = results
            # What was proven is what lies there: somebody else may have had the unit since.
            held, bench = reach.memory(), self._bench_of(reach)
            if held is None or without_aside(held, job.layout) != without_aside(image, job.layout):
                raise LinkError(
                    f"the unit does not hold {name} any more", remedy="Nothing was recorded. Flash again."
                )
            count = len(result.sectors) if result is not None else 0
            there = self.looked.now.identity.name if self.looked and self.looked.now else "the unit"
            unit = result.identity.name if result is not None else bench.unit.identify().name if bench else there
            job.record_flash(revision.id, _recorded(unit, reach), revision.image, count)
            if paired is not None and second is not None:
                unit = _recorded(second.identity.name, reach)
                job.record_flash(revision.id, unit, paired.image, len(second.sectors))
            before = ", ".join(result.codes_before) if result is not None else ""
            cleared = ", ".join(c.code for c in result.codes_raised) if result is not None else ""
            s.say(
                f"{name} {'is' if count else 'was'} in the unit{'' if count else ' already'}{_with(second, paired)}:"
                f" {f'{count} blocks written, ' if count else ''}all read back equal."
                + (f" Cleared what the write raised: {cleared}." if cleared else "")
                + (f" There before, and still there: {before}." if before else "")
            )

        self._start(f"Flashing {name}", "flashing", talk, apply, prepare=prepare, revision=revision.id, both=True)

    def finish(self, way: str) -> None:
        """End a write that was broken off: `go on` with it, or `restore` what the unit held before."""
        reach, job = self.reached(), self.session.job
        journals = reach.pair_left() if reach is not None else []
        if reach is None or job is None or not journals:
            return

        def prepare(reach: Reach) -> None:
            if job.read_only:
                raise JobError("the job is open read only", remedy="The flash could not be recorded.")

        def talk(units: Pair, reach: Reach) -> dict[str, Written]:
            from yarvic.core.link.pair import finish_pair
            from yarvic.core.link.standing import standing_of

            for flashing in units.both():
                flashing.cancelled = lambda: False  # it only ends when the units are whole
            found = standing_of(units, journals)
            if way not in found.next:
                other = f"What can be done: {', '.join(found.next)}."
                serials = ", ".join(j.begun.serial for j in journals)
                raise LinkError(found.sentence, concerns=serials, remedy=" ".join(found.steps) or other)
            return finish_pair(units, journals, way)

        def apply(results: dict[str, Written], reach: Reach) -> None:
            held = self.holds()
            if held is not None and way == "go on":
                paired = job.pairing_of(held.id)
                for half, result in results.items():
                    unit = _recorded(result.identity.name, reach)
                    image = paired.image if half == "gearbox" and paired is not None else held.image
                    job.record_flash(held.id, unit, image, len(result.sectors))
            self.session.say(f"The unit holds {held.name if held else 'what it held before'}: all read back equal.")

        title = "Going on with the write" if way == "go on" else "Putting the backup back"
        self._start(title, "flashing", talk, apply, prepare=prepare, both=True)

    def read(self) -> None:
        """Read all that the unit holds into the vault."""
        job = self.session.job
        if job is None:
            return
        made_here, vehicle = {r.image for r in job.revisions()[1:]}, job.sheet.title

        def talk(units: Pair, reach: Reach) -> tuple[object, Sighting]:
            return units.engine.keep(made_here=made_here, vehicle=vehicle)

        def apply(result: tuple[object, Sighting], reach: Reach) -> None:
            sighting = result[1]
            stock = " as its stock image" if sighting.stock else ""
            self.session.say(f"{sighting.size:,} bytes of {sighting.unit} were read and are in the vault{stock}.")

        self._start("Reading the unit", "reading the unit", talk, apply)

    def open_lock(self) -> None:
        """Open a locked unit by its port, for good."""

        def talk(units: Pair, reach: Reach) -> None:
            units.engine.open_lock()

        def apply(result: None, reach: Reach) -> None:
            self.session.say("The unit is open: it takes programming from now on.")

        self._start("Opening the unit", "opening the unit", talk, apply)

    def _start(
        self,
        title: str,
        kind: str,
        talk: Callable[[Pair, Reach], Any],
        apply: Callable[[Any, Reach], None],
        *,
        prepare: Callable[[Reach], None] = lambda reach: None,
        revision: int | None = None,
        both: bool = False,
    ) -> None:
        """A conversation with the unit as the one long work, or with both of a pair; nobody else touches them until it has
        ended.
        """
        s = self.session
        try:
            reach = self.reach()
            if reach is None:
                return
            prepare(reach)
            bench = self._bench_of(reach)
            if bench is not None and s.busy is None:
                bench.flash_begins()
        except YarvicError as error:
            s.failed.emit(error)
            return
        request, writes = s.request(kind, revision=revision), kind == "flashing"
        mine = s.busy is None
        self.writing = self.writing or (mine and writes)

        def work(progress: Progress, cancelled: Asked) -> object:
            from yarvic.core.link.pair import Pair

            gearbox = reach.gearbox if both else None
            if gearbox is None:
                with reach.talk(_told(progress), cancelled) as flashing:
                    return talk(Pair(flashing), reach)
            first = _told(progress, "gearbox", (0.0, 0.5))
            second = _told(progress, "engine", (0.5, 0.5))
            with reach.talk(second, cancelled) as engine, gearbox.talk(first, cancelled) as other:
                return talk(Pair(engine, other), reach)

        def done(result: object) -> None:
            apply(result, reach)
            if bench is not None and writes:
                bench.flashed()

        def ended() -> None:
            self.writing = self.writing and not mine
            # What was found before is not so any more.
            self.looked, self._looked_at = None, None
            if bench is not None and mine:
                bench.flash_ended()

        s.start(request, title, work, done, ended=ended, heard=lambda step: self.step_came.emit(request, step))


def _recorded(unit: str, reach: Reach) -> str:
    """A unit as its writes are recorded: what lies on another bus is not the simulated one."""
    return f"{unit}{BY}{reach.over}" if reach.over else unit


def _with(second: Written | None, paired: Pairing | None) -> str:
    if paired is None:
        return ""
    return (
        f", {paired.title} in the gearbox's"
        if second is not None
        else f", {paired.title} was in the gearbox's already"
    )


def _told(progress: Progress, half: str = "", of: tuple[float, float] = (0.0, 1.0)) -> Callable[[Step], None]:
    """How far a write is, by about what each of its parts takes; `of`: where a unit's share begins, and how much it is."""

    def step(s: Step) -> None:
        start, part = SHARES.get(s.phase, SHARES["Key off"])
        s = replace(s, half=half)
        progress(of[0] + of[1] * (start + part * s.done / max(s.total, 1)), s.sentence(), s)

    return step


def _ready_to_flash(readiness: Sequence[Any], *, read_only: bool) -> None:
    stops = Readiness(tuple(readiness)).stopping()
    if stops:
        remedy = "Correct it, look again, and set it to pass under Job, Readiness."
        raise NotReadyError("flashing is stopped by the vehicle's readiness", concerns=stops, remedy=remedy)
    if read_only:
        raise JobError("the job is open read only", remedy="The flash could not be recorded.")
