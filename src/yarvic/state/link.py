"""The link: the unit of the open job by the way that was chosen, how it stands now, and the acts that read and write it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

from psygnal import Signal

from yarvic.core.calibration.image import Image, check_image
from yarvic.core.checks.plausibility import Doubt, doubts_of_image
from yarvic.core.errors import JobError, LinkError, NotReadyError, YarvicError
from yarvic.core.job.model import Pairing, Revision
from yarvic.core.link.by_file import without_aside
from yarvic.core.link.pair import Pair, finish_pair, write_pair
from yarvic.core.plan.readiness import Readiness
from yarvic.state.acts import CHECKING_IMAGE, LOOKING
from yarvic.state.doubts import limits_at_crank
from yarvic.state.reach import ways
from yarvic.state.reach.door import BY, Reach, Way
from yarvic.state.work import Asked, Progress

if TYPE_CHECKING:
    from yarvic.core.link.journal import Journal
    from yarvic.core.link.look import UnitNow
    from yarvic.core.link.sectors import Step
    from yarvic.core.link.sequence import Written
    from yarvic.core.link.standing import Standing
    from yarvic.core.link.vault import Sighting
    from yarvic.state.bench import BenchState
    from yarvic.state.session import Session

# Of a write, where each of its parts begins and how much of it that is.
SHARES = {
    "Identifying": (0.0, 0.0), "Unlocking": (0.2, 0.0), "Clearing codes": (0.6, 0.0), "Starting": (1.0, 0.0),
    "Reading": (0.0, 0.2), "Writing": (0.2, 0.3), "Restoring": (0.2, 0.3), "Comparing": (0.5, 0.1), "Key off": (0.6, 0.4),
}  # fmt: skip


@dataclass(frozen=True)
class Looked:
    """What was found when the unit was looked at: how it stands, or why it could not be asked; of a write that has not
    ended, the journals and what can be done next; and the gearbox's unit where there is one.
    """

    now: UnitNow | None
    fault: YarvicError | None
    left: tuple[Journal, ...] = ()
    standing: Standing | None = None
    gearbox: UnitNow | None = None


@dataclass(frozen=True)
class ImageLooked:
    """What is wrong with an image (length, marks, checksums), and what in it lies outside bounds or beyond the ledger."""

    sha: str
    fault: YarvicError | None
    doubts: tuple[Doubt, ...]


class Link:
    """`changed` is emitted when it was looked at anew or another way was chosen."""

    changed = Signal()
    step_came = Signal(object, object)  # the request of a write, and the Step it is at

    def __init__(self, session: Session) -> None:
        self.session = session
        self.looked: Looked | None = None
        self.image: ImageLooked | None = None
        self._reach: Reach | None = None
        self._made_for: tuple[object, ...] = ()
        self._looked_at: object = None
        self._looking = False

    # -- the way

    def ways(self) -> list[Way]:
        """The ways by which the open job's unit could be reached."""
        simulated = self.session.bench is not None
        return [w for w in ways().values() if w.key != "simulated" or simulated]

    @property
    def way(self) -> Way:
        """The way that was chosen for units of this family: else simulated where a vehicle has such a unit, else by file."""
        s = self.session
        chosen = s.settings.reached.get(s.job.layout.family, "") if s.job is not None and s.job.has_maps else ""
        offered = {w.key: w for w in self.ways()}
        usual = "simulated" if s.bench is not None or s.job is None or not s.job.has_maps else "by file"
        return offered.get(chosen) or ways()[usual]

    @property
    def elsewhere(self) -> bool:
        """Whether the unit is one on a bus that is not this program's."""
        return self.way.make is not None and self.way.key != "simulated"

    def choose_way(self, key: str) -> None:
        """Reach units of this family so from now on."""
        s = self.session
        if s.job is not None and s.job.has_maps and key in ways() and s.busy is None:
            s.settings.reached = {**s.settings.reached, s.job.layout.family: key}
            self._afresh()

    def choose_bus(self, interface: str, channel: str, *, long_frames: bool) -> None:
        """The bus that interfaces are reached over."""
        if self.session.busy is None:
            kept = self.session.settings
            kept.interface, kept.channel, kept.long_frames = interface.strip(), channel.strip(), long_frames
            self._afresh()

    def paired(self) -> None:
        """What the gearbox's unit is to hold is another: it is reached anew."""
        self._made_for = ()
        self._afresh()

    def _afresh(self) -> None:
        self.looked, self._looked_at = None, None
        self.changed.emit()
        self.session.bench_changed.emit()

    def reach(self) -> Reach | None:
        """The unit; None where it is written by hand or there is none. Raises LinkError where the way is not whole."""
        s = self.session
        if s.job is None or not s.job.has_maps:
            return None
        way, kept = self.way, s.settings
        made_for = (s.opening, way.key, kept.interface, kept.channel, kept.long_frames)
        if made_for != self._made_for:
            self._reach = way.make(s.job, s.bench, kept) if way.make is not None else None
            self._made_for = made_for
        return self._reach

    def reached(self) -> Reach | None:
        """The same, None also where the way is not whole."""
        with suppress(LinkError):
            return self.reach()
        return None

    def holds(self) -> Revision | None:
        """The revision that lies in the unit, as far as that is known."""
        reach, job = self.reached(), self.session.job
        held = reach.memory() if reach is not None else None
        if held is None or job is None:
            return None
        bench = self._bench_of(reach)
        if bench is not None:
            return bench.holds()
        layout, bare = job.layout, without_aside(held, job.layout)
        return next((r for r in reversed(job.revisions()) if without_aside(job.image(r.image), layout) == bare), None)

    def _bench_of(self, reach: Reach | None) -> BenchState | None:
        """The bench, where the unit is the simulated one."""
        bench = self.session.bench
        return bench if bench is not None and reach is bench.link else None

    # -- looking

    def look(self) -> None:
        """Look at the unit beside the window where something about it changed, or where it may change by itself."""
        s = self.session
        if s.job is None or self._looking or s.busy is not None:
            return
        try:
            reach = self.reach()
        except LinkError as error:
            self._found(Looked(None, error), None)
            return
        if reach is None:
            return
        left = reach.pair_left()
        other = reach.gearbox.fingerprint() if reach.gearbox is not None else None
        key = (self._made_for, reach.fingerprint(), other, tuple((j.path, len(j.entries)) for j in left))
        if key == self._looked_at and not reach.polled:
            return
        before = self.looked if key == self._looked_at else None
        kept = before.standing if before is not None and before.standing and "go on" in before.standing.next else None

        def work(progress: Progress, cancelled: Asked) -> Looked:
            return _look(reach, left, kept)

        self._looking = True
        request = s.request(LOOKING)
        s.requests.submit(
            request, "Looking at the unit", work, lambda found: self._found(found, key), ended=self._looked_once,
            visible=False,
        )  # fmt: skip

    def look_afresh(self) -> None:
        """Look at the unit again, whatever was known of it."""
        self._looked_at = None
        self.look()

    def _looked_once(self) -> None:
        self._looking = False

    def _found(self, looked: Looked, key: object) -> None:
        same = self.looked == looked or (looked.fault is not None and str(looked.fault) == str(self._fault()))
        self.looked, self._looked_at = looked, key
        if not same:
            self.changed.emit()

    def _fault(self) -> YarvicError | None:
        return self.looked.fault if self.looked is not None else None

    def look_through(self, revision: Revision) -> None:
        """Check an image beside the window: length, marks, checksums, bounds, and what the parts bear."""
        s = self.session
        if s.job is None or (self.image is not None and self.image.sha == revision.image):
            return
        layout, data, limits = s.job.layout, s.job.image(revision.image), limits_at_crank(s.job)

        def work(progress: Progress, cancelled: Asked) -> ImageLooked:
            try:
                check_image(data, layout)
                sets = Image(layout, data)
                doubts = [d for slot in sets for d in doubts_of_image(sets[slot], layout.role_of, limits)]
            except YarvicError as error:
                return ImageLooked(revision.image, error, ())
            return ImageLooked(revision.image, None, tuple(dict.fromkeys(doubts)))

        def apply(found: ImageLooked) -> None:
            self.image = found
            self.changed.emit()

        request = s.request(CHECKING_IMAGE, reads=("the ledger",))
        s.requests.submit(request, "Checking the image", work, apply, visible=False)

    def say_broken(self) -> None:
        """Say a write into this unit that has not ended, wherever one looks."""
        reach = self.reached()
        left = reach.pair_left() if reach is not None else []
        half = self.half_a_pair()
        if left:
            begun = left[0].begun
            what = f"the write of {begun.revision or 'an image'} into this unit was broken off"
        elif half:
            what = f"half a pair: {half}"
        else:
            return
        remedy = "Do not drive. Flash says where the unit stands, and what can be done next."
        serials = ", ".join(j.begun.serial for j in left)
        self.session.failed.emit(LinkError(what, concerns=serials, remedy=remedy))

    def half_a_pair(self) -> str:
        """Why the engine's unit and the gearbox's do not belong together, in words; empty where they do."""
        bench = self._bench_of(self.reached())
        return bench.half_a_pair() if bench is not None else self._half_elsewhere()

    def _half_elsewhere(self) -> str:
        """The same of units on another bus, of which both were read or written since."""
        reach, job = self.reached(), self.session.job
        gearbox = reach.gearbox if reach is not None else None
        there = gearbox.memory() if gearbox is not None else None
        held = self.holds()
        paired = job.pairing_of(held.id) if job is not None and held is not None else None
        if there is None or paired is None or job is None or held is None:
            return ""
        layout = paired.layout
        if without_aside(there, layout) == without_aside(job.image(paired.image), layout):
            return ""
        return f"the engine's unit holds {held.name}, the gearbox's does not hold {paired.title}"

    # -- acts

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
                f"{name} is in the unit{_with(second, paired)}: {count} blocks written, all read back equal."
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

        def work(progress: Progress, cancelled: Asked) -> object:
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
            # What was found before is not so any more.
            self.looked, self._looked_at = None, None
            if bench is not None and mine:
                bench.flash_ended()

        s.start(request, title, work, done, ended=ended, heard=lambda step: self.step_came.emit(request, step))


def _recorded(unit: str, reach: Reach) -> str:
    """A unit as its writes are recorded: what lies on another bus is not the simulated one."""
    return f"{unit}{BY}{reach.over}" if reach.over else unit


def _look(reach: Reach, left: list[Journal], kept: Standing | None) -> Looked:
    from yarvic.core.link.look import look
    from yarvic.core.link.standing import standing_of

    now: UnitNow | None = None
    box: UnitNow | None = None
    fault: YarvicError | None = None
    stands = kept
    try:
        with reach.looking() as flashing:
            try:
                now = look(flashing.tester)
            except LinkError as error:
                fault = error
            if left and stands is None and reach.gearbox is None:
                stands = standing_of(Pair(flashing), left)
        if reach.gearbox is not None:
            with reach.looking() as engine, reach.gearbox.looking() as gearbox:
                try:
                    box = look(gearbox.tester)
                except LinkError as error:
                    fault = fault or error
                if left and stands is None:
                    stands = standing_of(Pair(engine, gearbox), left)
    except YarvicError as error:
        fault = error
    return Looked(now, fault, tuple(left), stands, box)


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
