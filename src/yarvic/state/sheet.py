"""The job sheet in hand: changes that are on disk at once, and can be undone as long as the job is open."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date
from typing import Any

from yarvic.core.checks.components import ComponentLimit
from yarvic.core.errors import JobError
from yarvic.core.job.model import Fitting, JobSheet, parts_on
from yarvic.core.job.store import Job
from yarvic.core.plan.parts import Kind, Part
from yarvic.core.plan.plan import Answer, Stage
from yarvic.core.plan.readiness import Item, Measure, State
from yarvic.core.plan.vehicle import entries, faults

MOST_UNDONE = 200


class SheetState:
    """Changes of the sheet. `changed` is called after each with whether what is judged by changed too."""

    def __init__(self, job: Job, changed: Callable[[bool], None]) -> None:
        self.job = job
        self._changed = changed
        self._undo: list[tuple[JobSheet, str]] = []
        self._redo: list[tuple[JobSheet, str]] = []

    @property
    def sheet(self) -> JobSheet:
        """The sheet as it is on disk."""
        return self.job.sheet

    def set(self, what: str, **values: Any) -> None:
        """Change entries of the sheet. Raises JobError, saying what cannot be; then nothing changes."""
        self._keep(self.sheet.changed(**values), what)

    def _keep(self, new: JobSheet, what: str) -> None:
        before = self.sheet
        if new == before:
            return
        self.job.save_sheet(new, what)
        self._undo = [*self._undo[-MOST_UNDONE:], (before, what)]
        self._redo = []
        self._changed(judged_by(new) != judged_by(before))

    def undo(self) -> str:
        """Take the last change back; gives what it was, empty when there is none."""
        return self._step(self._undo, self._redo, "Undone")

    def redo(self) -> str:
        """Make the change again that was taken back."""
        return self._step(self._redo, self._undo, "Redone")

    def _step(self, source: list[tuple[JobSheet, str]], target: list[tuple[JobSheet, str]], word: str) -> str:
        if not source:
            return ""
        sheet, what = source[-1]
        before = self.sheet
        self.job.save_sheet(sheet, f"{word}: {what}")
        source.pop()
        target.append((before, what))
        self._changed(judged_by(sheet) != judged_by(before))
        return what

    def import_sheet(self, other: JobSheet, source: str) -> None:
        """Put another sheet in place of this one."""
        self._keep(other, f"Sheet imported from {source}.")

    # -- the vehicle

    def set_vehicle(self, **values: Any) -> None:
        """Change entries of the vehicle. Raises JobError naming the entry that cannot be; then nothing changes."""
        wrong = faults({**self.sheet.vehicle.entries(), **values})
        if wrong:
            key = next((k for k in values if k in wrong), next(iter(wrong)))
            raise JobError(wrong[key], remedy="The entry before stays.")
        made = self.sheet.vehicle.changed(**values)
        key = next(iter(values))
        entry = entries().get(key)
        title = entry.title if entry else key.replace("_", " ").capitalize()
        self.set(f"{title}: {_in_words(getattr(self.sheet.vehicle, key))} to {_in_words(values[key])}.", vehicle=made)

    def set_fitted(self, station: str, text: str) -> None:
        """Say what was fitted at a station when the vehicle came in."""
        fitted = {**self.sheet.fitted, station: text.strip()}
        self.set(
            f"Fitted at {station.replace('_', ' ')}: {text.strip()}.", fitted={k: v for k, v in fitted.items() if v}
        )

    # -- readiness

    def see(
        self, key: str, state: State, *, reason: str = "", who: str = "", when: str = "", value: float | None = None
    ) -> None:
        """Record how an item was found. Raises YarvicError for a watch or stop without reason; JobError without a name."""
        item = self.item(key)
        if state and not who.strip():
            raise JobError(f"{item.title}: who looked at it?", remedy="Give your name.")
        new = item.seen(state, reason, who, when, value)
        words = f"{item.title}: {state or 'not looked at'}"
        found = new.in_words()
        self.set(f"{words}{f', {found}' if found else ''}.", readiness=self._with(new))

    def item(self, key: str) -> Item:
        """The readiness item of this key. Raises JobError when there is none."""
        found = next((i for i in self.sheet.readiness if i.key == key), None)
        if found is None:
            raise JobError(f"there is no readiness item {key!r}", remedy="Choose one of the list.")
        return found

    def _with(self, new: Item) -> tuple[Item, ...]:
        return tuple(new if i.key == new.key else i for i in self.sheet.readiness)

    def add_item(self, title: str, station: str) -> Item:
        """A readiness item of one's own. Raises JobError without a title."""
        if not title.strip():
            raise JobError("an item needs its title", remedy="Say what is to be looked at.")
        taken = {i.key for i in self.sheet.readiness}
        key = next(f"own_{n}" for n in range(1, len(taken) + 2) if f"own_{n}" not in taken)
        item = Item(key=key, title=title.strip()[:80], station=station)
        self.set(f"Readiness item added: {item.title}.", readiness=(*self.sheet.readiness, item))
        return item

    def change_item(self, key: str, *, title: str, ask: str, measure: Measure | None) -> None:
        """Say anew what is looked at, and by which number. What was seen stays unless the number it hung on is gone.

        Raises JobError for what cannot be; then nothing changes.
        """
        item = self.item(key)
        same = item.measure is not None and measure is not None and item.measure.unit == measure.unit
        new = item.changed(title=title.strip(), ask=ask.strip(), measure=measure, value=item.value if same else None)
        self.set(f"Readiness item changed: {new.title}.", readiness=self._with(new))

    def drop_item(self, key: str) -> None:
        """Take a readiness item off the list."""
        item = self.item(key)
        kept = tuple(i for i in self.sheet.readiness if i.key != key)
        self.set(f"Readiness item removed: {item.title}.", readiness=kept)

    # -- builds

    def fit(
        self,
        title: str,
        station: str,
        text: str,
        *,
        parts: tuple[str, ...] = (),
        removed: tuple[str, ...] = (),
        day: str = "",
        **event: Any,
    ) -> None:
        """Record that a part was fitted or removed: a new build begins. Raises JobError; then nothing changes.

        Parts of the ledger that the new ones exclude, or that stand in the same place of a limit, come off with it.
        """
        if day:
            try:
                date.fromisoformat(day)
            except ValueError:
                raise JobError(f"{day!r} is no date", remedy="Write it as 2025-03-18.") from None
        on = parts_on(self.job.builds())
        missing = [k for key in parts for k in self.part(key).needs if k not in on and k not in parts]
        if missing:
            names = ", ".join(self.part(k).title for k in missing)
            raise JobError(f"{title} needs {names} to be fitted", remedy="Fit that first.")
        off = set(removed) | {k for k in on if k not in parts and any(self._rivals(k, p) for p in parts)}
        made = Fitting().changed(parts=parts, removed=tuple(sorted(off & on)), date=day, **event)
        self.job.fit(title, {station: text} if station and text else {}, made)
        self._changed(True)

    def _rivals(self, one: str, other: str) -> bool:
        a, b = self.part(one), self.part(other)
        if other in a.excludes or one in b.excludes:
            return True
        for limit in self.sheet.limits:
            becomes = {m.part for m in limit.moved_by if m.how == "becomes"}
            if {one, other} <= becomes:
                return True
        return False

    def part(self, key: str) -> Part:
        """The part of the ledger with this key. Raises JobError when there is none."""
        found = next((p for p in self.sheet.parts if p.key == key), None)
        if found is None:
            raise JobError(f"there is no part {key!r} in the ledger", remedy="Choose one of the list.")
        return found

    # -- limits, parts, stages

    def save_limit(self, limit: ComponentLimit, replaces: tuple[str, str] | None = None) -> None:
        """Put a limit into the ledger, in place of the one of that name if given."""
        others = tuple(x for x in self.sheet.limits if x.name != replaces)
        at = next((i for i, x in enumerate(self.sheet.limits) if x.name == replaces), len(others))
        limits = (*others[:at], limit, *others[at:])
        self.set(f"Limit of {limit.component}: {limit.safe:g} to {limit.stretch:g} {limit.unit}.", limits=limits)

    def drop_limit(self, name: tuple[str, str]) -> None:
        """Take a limit out of the ledger."""
        limits = tuple(x for x in self.sheet.limits if x.name != name)
        self.set(f"Limit of {name[0]} for {name[1].replace('_', ' ')} removed.", limits=limits)

    def add_kind(self, kind: Kind) -> tuple[int, int]:
        """Add a library kind's limits and parts that are not there yet; gives how many of each."""
        names, keys = {x.name for x in self.sheet.limits}, {p.key for p in self.sheet.parts}
        limits = [x for x in kind.limits if x.name not in names]
        parts = [p for p in kind.parts if p.key not in keys]
        what = f"{len(limits)} limits and {len(parts)} parts added from {kind.title}."
        self.set(what, limits=(*self.sheet.limits, *limits), parts=(*self.sheet.parts, *parts))
        return len(limits), len(parts)

    def save_part(self, part: Part, replaces: str = "") -> None:
        """Put a part into the ledger, in place of the one of that key if given."""
        parts = self.sheet.parts
        if any(p.key == replaces for p in parts):
            new = tuple(part if p.key == replaces else p for p in parts)
        else:
            new = (*parts, part)
        self.set(f"Part {part.title}: {part.price:g}, {part.hours:g} h.", parts=new)

    def drop_part(self, key: str) -> None:
        """Take a part out of the ledger, with what it moves. Raises JobError while a stage or another part needs it."""
        part = self.part(key)
        staged = next((x.title for x in self.sheet.plan.stages if key in x.parts), None)
        if staged:
            raise JobError(f"{staged} needs {part.title}", remedy="Remove it from the stage first.")
        needing = next((p.title for p in self.sheet.parts if key in p.needs), None)
        if needing:
            raise JobError(f"{needing} needs {part.title}", remedy="Change that part first.")
        parts = tuple(
            p.model_copy(update={"excludes": tuple(k for k in p.excludes if k != key)})
            for p in self.sheet.parts
            if p.key != key
        )
        limits = tuple(
            x.model_copy(update={"moved_by": tuple(m for m in x.moved_by if m.part != key)})
            for x in self.sheet.limits
        )
        self.set(f"Part {part.title} removed.", parts=parts, limits=limits)

    def set_plan(self, what: str, **values: Any) -> None:
        """Change entries of the plan."""
        self.set(what, plan=self.sheet.plan.changed(**values))

    def save_stage(self, at: int, stage: Stage) -> None:
        """Put a stage at its place; past the end it is added."""
        stages = list(self.sheet.plan.stages)
        stages[at : at + 1] = [stage]
        self.set_plan(f"Stage {stage.title} saved.", stages=tuple(stages))

    def drop_stage(self, at: int) -> None:
        """Take a stage out of the plan."""
        stages = list(self.sheet.plan.stages)
        gone = stages.pop(at)
        self.set_plan(f"Stage {gone.title} removed.", stages=tuple(stages))

    def move_stage(self, at: int, by: int) -> None:
        """Move a stage earlier or later."""
        stages = list(self.sheet.plan.stages)
        to = at + by
        if 0 <= to < len(stages):
            stages[at], stages[to] = stages[to], stages[at]
            self.set_plan(f"Stage {stages[to].title} is now number {to + 1}.", stages=tuple(stages))

    def save_answer(self, answer: Answer) -> None:
        """Put an answer into the plan, in place of the one of the same sheet."""
        others = tuple(a for a in self.sheet.plan.answers if a.sheet != answer.sheet)
        self.set_plan(f"Into the plan: {answer.sentence}", answers=(*others, answer))


def of_the_plan(sheet: JobSheet) -> tuple[Any, ...]:
    """What parts are found by: another value when any of it changes."""
    plan = sheet.plan
    asked = plan.target, plan.band, plan.margin, plan.budget, plan.rate
    return sheet.limits, sheet.parts, sheet.vehicle.loss, asked


def judged_by(sheet: JobSheet) -> tuple[Any, ...]:
    """What of a sheet decides findings and curves, as a value that can be compared."""
    v = sheet.vehicle
    return sheet.limits, sheet.check_limits, sheet.parts, v.asked, v.loss, v.stroke_mm, v.ignition, sheet.band_rpm


def _in_words(value: Any) -> str:
    if value is None or value == "" or value == ():
        return "not stated"
    if isinstance(value, float):
        return f"{value:g}"
    if isinstance(value, tuple):
        return ", ".join(_in_words(v) for v in value)
    if isinstance(value, dict):
        return ", ".join(f"{k} {v}" for k, v in value.items())
    return str(value)
