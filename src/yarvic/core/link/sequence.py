"""Bringing an image into a unit, so that whatever happens on the way the unit can be brought back.

Read and keep what it holds; erase the sector by which it is known, so that it cannot start half written; write what differs
sector by sector, each proven by the unit's own sum; write that first sector last; read all of it back and have the unit sum
it up, because what is given back may be what was sent; clear the codes that the write raised; reset; wait; look whether it
runs. What is to be written is always found by comparing with the unit, never from memory: going on after a crash and putting
the old image back are the same act with another image.
"""

from __future__ import annotations

import contextlib
from collections.abc import Container, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from yarvic.core.calibration.image import check_image
from yarvic.core.errors import Cancelled, LinkError
from yarvic.core.link.identifiers import Did
from yarvic.core.link.journal import JOURNALS, Begun, Ending, Journal, begun_now
from yarvic.core.link.look import identity_of
from yarvic.core.link.sectors import PASSING, SectorWriter, Step
from yarvic.core.link.unit import KEY_OFF_S, LEAST_VOLTAGE_V, FaultCode, Identity
from yarvic.core.link.vault import Sighting, Vault


@dataclass(frozen=True)
class Written:
    """What a sequence did: the unit, the image it held before and the one it holds now, the sectors that were written, the
    codes that were there before, and those that the write raised and that were cleared.
    """

    identity: Identity
    backup: str
    image: str
    sectors: tuple[int, ...]
    codes_before: tuple[str, ...]
    codes_raised: tuple[FaultCode, ...]


@dataclass(frozen=True)
class Prepared:
    """A write before it begins: the unit, what it holds, what it is to hold, and the sectors that are to be written."""

    identity: Identity
    held: bytes
    image: bytes
    sectors: tuple[int, ...]
    begun: Begun


class BrokenOffError(LinkError):
    """A write stopped on its way: the unit does not start until it is gone on with or put back. The journal has it."""


LOCKED = {
    "once": ("is locked", "Open it by its port, once and for good, then write."),
    "bench": (
        "takes programming only on the bench",
        "Take it out, connect it on the bench with its own supply, then write.",
    ),
}


class LockedError(LinkError):
    """The unit does not take programming as it lies."""

    def __init__(self, lock: str, name: str) -> None:
        what, remedy = LOCKED.get(lock, ("does not take programming", "Look at what locks it."))
        super().__init__(f"the unit {what}", concerns=name, remedy=f"Nothing was written. {remedy}")
        self.lock = lock


@dataclass(kw_only=True)
class Flashing(SectorWriter):
    """One conversation that writes. `wait_s` is the time that the key is off at the end."""

    vault: Vault
    wait_s: float = KEY_OFF_S

    # -- what a person starts

    def open_lock(self) -> None:
        """Open a unit that is locked, by its port and for good. Raises LinkError: LockedError for one of the bench."""
        identity, state = self.identify(), self.tester.state()
        if state.lock == "bench" and not state.opened:
            raise LockedError(state.lock, identity.name)
        if state.engine_runs:
            raise LinkError("the engine runs", concerns=identity.name, remedy="Stop the engine, then open the unit.")
        self.tester.extended_session()
        self.tester.open_lock()
        if not self.tester.state().opened:
            raise LinkError(
                "the unit took the key and stays locked",
                concerns=identity.name,
                remedy="Switch its ignition off and on.",
            )

    def keep(self, *, made_here: Container[str] = (), **about: Any) -> tuple[Identity, Sighting]:
        """Read all that the unit holds and keep it in the vault. Raises LinkError, Cancelled."""
        self._at("Identifying")
        identity = self.identify()
        self.tester.extended_session()
        return identity, self._kept(identity, self.read(), made_here, about)

    def _kept(self, identity: Identity, held: bytes, made_here: Container[str], about: dict[str, Any]) -> Sighting:
        seen = {"unit": identity.name, "vehicle": about.get("vehicle", "")}
        serial = self.tester.text(Did.SERIAL_NUMBER)
        return self.vault.put(held, "read", made_here=made_here, serial=serial, family=identity.family, **seen)

    def write(
        self, image: bytes, *, everything: bool = False, made_here: Container[str] = (), **about: Any
    ) -> Written | None:
        """Bring an image into the unit; None where it holds that already.

        `about`: job, revision and vehicle, for journal and vault; `made_here`: images that no unit came with. Until the
        first sector is erased nothing has changed. When asked to cancel later, what was written is put back before
        Cancelled is raised. Raises CalibrationError for an image that does not fit, LinkError where nothing was changed,
        BrokenOffError where the unit was being written.
        """
        ready = self.prepare(image, everything=everything, made_here=made_here, **about)
        return self.carry_out(ready, self.begin(ready)) if ready is not None else None

    def prepare(
        self, image: bytes, *, everything: bool = False, made_here: Container[str] = (), **about: Any
    ) -> Prepared | None:
        """All that comes before the unit is touched: it is read and kept, and what a lock or a supply bars is said.

        None where the unit holds the image already. Raises as `write`.
        """
        check_image(image, self.layout)
        self._at("Identifying")
        identity = self.identify()
        self._may_be_written(identity)
        codes = tuple(c.code for c in self.tester.fault_codes())
        self.tester.extended_session()
        held = self.read()
        backup = self._kept(identity, held, made_here, about)
        differing = self.differing(held, image)
        if not differing and not everything:
            return None
        revision = about.get("revision", "")
        # A sector is written whole: what in it is not the image's stays the unit's.
        image = self.kept_aside(image, held)
        seen = backup.model_dump(include={"serial", "family", "unit", "vehicle"})
        target = self.vault.put(image, "to be written", **seen, revision=revision)
        sectors = self.guarded(list(range(self.map.sectors)) if everything else differing)
        self._at("Unlocking")
        self.enter_programming()
        begun = begun_now(
            serial=backup.serial, family=identity.family, image=target.sha, backup=backup.sha, sectors=tuple(sectors),
            codes=codes, job=about.get("job", ""), revision=revision, by=about.get("by", "simulated"),
            pair=about.get("pair", ""), half=about.get("half", ""),
        )  # fmt: skip
        return Prepared(identity, held, image, tuple(sectors), begun)

    def begin(self, ready: Prepared) -> Journal:
        """The journal of a write, with all the room that it will need. Raises LinkError; then the unit is as it was."""
        return Journal.create(self.vault.folder / JOURNALS, ready.begun)

    def carry_out(self, ready: Prepared, journal: Journal) -> Written:
        """Write what was prepared. Raises Cancelled, BrokenOffError."""
        with self._journalled(journal):
            try:
                self.bring(journal, ready.image, ready.sectors, stoppable=True)
            except Cancelled:
                touched = self.guarded(list(journal.touched))
                self.bring(
                    journal, ready.held, touched if journal.touched else [], stoppable=False, phase="Restoring"
                )
                self._end(journal, "restored")
                raise
            return self._written(journal, ready.identity, ready.sectors, self._end(journal, "written"))

    def go_on(self, journal: Journal) -> Written:
        """Bring the image of a journal into the unit after all. Raises LinkError, BrokenOffError."""
        return self._finish(journal, journal.begun.image, "written")

    def restore(self, journal: Journal) -> Written:
        """Put back what the unit held before. Raises LinkError, BrokenOffError."""
        return self._finish(journal, journal.begun.backup, "restored")

    def _finish(self, journal: Journal, sha: str, ending: Ending) -> Written:
        image = self.vault.get(sha)
        self._at("Identifying")
        identity = self.identify()
        if self.tester.text(Did.SERIAL_NUMBER) != journal.begun.serial:
            raise LinkError(
                f"this unit is not {journal.begun.serial}, which was being written",
                concerns=identity.name,
                remedy="Nothing was written. Connect that unit.",
            )
        self._may_be_written(identity)
        self.tester.extended_session()
        sectors = self.guarded(self.differing(self.read(), image))
        journal.go_on()
        with self._journalled(journal):
            self.bring(
                journal, image, sectors, stoppable=False, phase="Writing" if ending == "written" else "Restoring"
            )
            return self._written(journal, identity, sectors, self._end(journal, ending))

    @contextlib.contextmanager
    def _journalled(self, journal: Journal) -> Iterator[None]:
        """Whatever breaks a write off is said with what comes next."""
        try:
            yield
        except LinkError as error:
            raise BrokenOffError(
                f"the write broke off: {error.what}",
                concerns=journal.begun.serial,
                remedy=f"Do not drive. {error.remedy} Then go on with the write, or put the backup back.",
                details=error.details,
            ) from error
        finally:
            journal.close()

    def _written(
        self, journal: Journal, identity: Identity, sectors: Sequence[int], raised: tuple[FaultCode, ...]
    ) -> Written:
        begun = journal.begun
        return Written(identity, begun.backup, begun.image, tuple(sorted(sectors)), begun.codes, raised)

    # -- before

    def identify(self) -> Identity:
        """Who the unit is and what it runs. Raises LinkError for another memory than the layout's."""
        layout, identity = self.layout, identity_of(self.tester)
        name, family, version = identity.name, identity.family, identity.layout_version
        self.map = self.tester.memory_map()
        if (family, version) != (layout.family, layout.version):
            raise LinkError(
                f"the unit is of family {family!r} layout {version!r}, the image is for {layout.family!r} layout"
                f" {layout.version!r}",
                concerns=name,
                remedy="Nothing was written. Connect the unit that this job is about.",
            )
        if (self.map.base, self.map.length) != (layout.base, layout.length):
            raise LinkError(
                f"the unit's memory has {self.map.length:,} bytes from 0x{self.map.base:X}, the image"
                f" {layout.length:,} from 0x{layout.base:X}",
                concerns=name,
                remedy="Nothing was written. Use the description of this unit.",
            )
        return identity

    def _may_be_written(self, identity: Identity) -> None:
        if self.tester.others():
            raise LinkError(
                "somebody else talks on the bus",
                concerns=identity.name,
                remedy="Nothing was written. Take every other tester and logger off the bus, or close their programs.",
            )
        state = self.tester.state()
        if state.engine_runs:
            raise LinkError("the engine runs", concerns=identity.name, remedy="Nothing was written. Stop the engine.")
        if not state.opened:
            raise LockedError(state.lock, identity.name)
        volts = self.tester.supply().voltage_v
        if volts < LEAST_VOLTAGE_V:
            raise LinkError(
                f"supply is {volts:.1f} V, writing needs {LEAST_VOLTAGE_V:.1f} V",
                concerns=identity.name,
                remedy="Nothing was written. Put the battery on a maintainer.",
            )

    # -- after

    def _end(self, journal: Journal, ending: Ending) -> tuple[FaultCode, ...]:
        """Clear what the write raised, reset, wait with the key off, and look whether the unit runs."""
        journal.add("before", "codes")
        self._at("Clearing codes")
        raised = tuple(c for c in self.tester.fault_codes() if c.code not in journal.begun.codes)
        if raised:
            self.tester.clear_fault_codes(*(c.code for c in raised))
        journal.add("before", "reset")
        with contextlib.suppress(*PASSING):
            # Its answer may be lost in the start.
            self.tester.reset()
        self._wait()
        self._at("Starting")
        self.answers_again()
        state = self.tester.state()
        if state.boot or not state.whole:
            raise LinkError(
                "the unit holds what was written and does not start", remedy="Look at its supply.", details=str(state)
            )
        journal.add("end", ending)
        return raised

    def _at(self, phase: str) -> None:
        self.tell(Step(phase, None, 0, 1))

    def _wait(self) -> None:
        end = self.clock() + self.wait_s
        while (left := end - self.clock()) > 0.0:
            self.tell(Step("Key off", None, round(self.wait_s - left), round(self.wait_s), left))
            self.sleep(min(left, 0.25))
