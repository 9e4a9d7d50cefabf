"""The unit of the open job by the way that was chosen, and how it stands now."""

from __future__ import annotations

from collections.abc import Hashable
from contextlib import ExitStack, suppress
from dataclasses import dataclass
from typing import TYPE_CHECKING

from psygnal import Signal

from yarvic.core.calibration.image import Image, check_image, image_id
from yarvic.core.checks.plausibility import Doubt, doubts_of_image
from yarvic.core.errors import LinkError, YarvicError
from yarvic.core.job.model import Revision, parts_on
from yarvic.core.link.by_file import without_aside
from yarvic.state.acts import CHECKING_IMAGE, LOOKING
from yarvic.state.reach import ways
from yarvic.state.reach.door import Reach, Way
from yarvic.state.work import Asked, Progress

if TYPE_CHECKING:
    from yarvic.core.link.journal import Journal
    from yarvic.core.link.look import UnitNow
    from yarvic.core.link.standing import Standing
    from yarvic.state.acts import Acts
    from yarvic.state.bench import BenchState


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
    stock_read: str = ""  # the day on which its stock image was read into the vault; empty where it is not there


@dataclass(frozen=True)
class ImageLooked:
    """What is wrong with an image (length, marks, checksums), and what in it lies outside bounds or beyond the ledger."""

    of: Hashable  # the image, and what it was held against: layout and ledger
    fault: YarvicError | None
    doubts: tuple[Doubt, ...]


class Looking:
    """`changed` is emitted when it was looked at anew or another way was chosen."""

    changed = Signal()

    def __init__(self, session: Acts) -> None:
        self.session = session
        self.looked: Looked | None = None
        self.image: ImageLooked | None = None
        self._reach: Reach | None = None
        self._not_whole: LinkError | None = None  # what the way that was chosen lacks
        self._made_for: tuple[object, ...] = ()
        self._looked_at: object = None
        self._looking = False
        self._through: Hashable = None  # what is being looked through, or was last
        self._known: tuple[Hashable, Revision | None] = (None, None)
        self.writing = False  # a unit is being written by this window

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
            # What was found of another unit is not of this one.
            self.looked, self._looked_at, self._made_for = None, None, made_for
            self._reach = self._not_whole = None
            try:
                simulated = s.bench.link if s.bench is not None else None
                self._reach = way.make(s.job, simulated, kept) if way.make is not None else None
            except LinkError as error:
                self._not_whole = error
        if self._not_whole is not None:
            raise self._not_whole
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
        layout, revisions = job.layout, job.revisions()
        key = (self._made_for, image_id(held), len(revisions), layout)
        if self._known[0] != key:
            # Asked for at every picture; the images of all revisions are not read for that.
            bare = without_aside(held, layout)
            found = (r for r in reversed(revisions) if without_aside(job.image(r.image), layout) == bare)
            self._known = key, next(found, None)
        return self._known[1]

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
        if s.job is None or self._against(revision) == self._through:
            return
        of = self._through = self._against(revision)
        layout, data = s.job.layout, s.job.image(revision.image)
        limits = s.job.sheet.limits_at_crank(parts_on(s.job.builds()))

        def work(progress: Progress, cancelled: Asked) -> ImageLooked:
            try:
                check_image(data, layout)
                sets = Image(layout, data)
                doubts = [d for slot in sets for d in doubts_of_image(sets[slot], layout.role_of, limits)]
            except YarvicError as error:
                return ImageLooked(of, error, ())
            return ImageLooked(of, None, tuple(dict.fromkeys(doubts)))

        def apply(found: ImageLooked) -> None:
            self.image = found
            self.changed.emit()

        s.requests.submit(s.request(CHECKING_IMAGE), "Checking the image", work, apply, visible=False)

    def _against(self, revision: Revision) -> Hashable:
        job = self.session.job
        if job is None:
            return None
        limits = job.sheet.limits_at_crank(parts_on(job.builds()))
        return self.session.opening, revision.image, id(job.layout), limits

    def image_of(self, revision: Revision) -> ImageLooked | None:
        """What was found of an image as things stand now; None while that is being looked through."""
        return self.image if self.image is not None and self.image.of == self._against(revision) else None

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

    @property
    def blind(self) -> bool:
        """Whether what the gearbox's unit holds is not known here: it was not read over this link."""
        reach = self.reached()
        return reach is None or reach.gearbox is None or reach.gearbox.memory() is None

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


def _look(reach: Reach, left: list[Journal], kept: Standing | None) -> Looked:
    from yarvic.core.link.look import look
    from yarvic.core.link.pair import Pair
    from yarvic.core.link.standing import standing_of

    found: list[UnitNow | None] = [None, None]
    fault: YarvicError | None = None
    stands = kept
    try:
        with ExitStack() as stack:
            units = [stack.enter_context(r.looking()) for r in (reach, reach.gearbox) if r is not None]
            for n, flashing in enumerate(units):
                try:
                    found[n] = look(flashing.tester)
                except LinkError as error:
                    fault = fault or error
            if left and stands is None:
                stands = standing_of(Pair(*units), left)
    except YarvicError as error:
        fault = error
    now, box = found
    return Looked(now, fault, tuple(left), stands, box, _stock_read(reach, now))


def _stock_read(reach: Reach, now: UnitNow | None) -> str:
    from yarvic.core.link.vault import Vault

    if now is None:
        return ""
    seen, unit = Vault(reach.vault_folder).seen(), (now.serial, now.identity.family)
    return next((s.time[:10] for s in seen if s.stock and (s.serial, s.family) == unit), "")
