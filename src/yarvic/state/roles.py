"""Roles of the open job's tables: proposed, confirmed by a person, kept with the layout, shared as a file."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from yarvic.core.calibration import roles as core
from yarvic.core.calibration.layout import Axis, Layout, LeftOut, Role
from yarvic.core.errors import JobError
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.formats.files import write_whole
from yarvic.core.job.store import Job
from yarvic.core.reading import read_text
from yarvic.core.units import UNITS
from yarvic.state.maps import MapsState
from yarvic.state.session import Session
from yarvic.state.shown_table import SCALARS


class RolesState:
    """What each table of the job is said to do, or may do."""

    def __init__(self, session: Session, maps: MapsState) -> None:
        self.session, self.maps = session, maps
        self._of: Layout | None = None
        self._proposed: list[core.Proposal] = []

    @property
    def layout(self) -> Layout | None:
        """The layout of the open job, if it has one."""
        job = self.session.job
        return job.layout if job is not None and job.has_maps else None

    @property
    def may_write(self) -> bool:
        """Whether what is said can be kept."""
        return self.session.job is not None and not self.session.job.read_only

    def proposals(self, role: str) -> list[core.Proposal]:
        """The entries that may have a role, the likeliest first."""
        layout = self.layout
        if layout is not self._of:
            self._of, self._proposed = layout, core.propose(layout) if layout is not None else []
        return [p for p in self._proposed if p.role == role]

    def likeliest(self, role: str) -> core.Proposal | None:
        """The one that is proposed for a role."""
        return next(iter(self.proposals(role)), None)

    def said(self, role: str) -> Role | None:
        """What a person said of a role."""
        return self.layout.roles.get(role) if self.layout is not None else None

    def title(self, key: str) -> str:
        """What an entry is called."""
        entry = self.layout.by_key.get(key) if self.layout is not None else None
        return entry.named if entry is not None else key

    def shown(self) -> str:
        """The key of the table in hand; empty where single values are shown."""
        return "" if self.maps.key == SCALARS else self.maps.key

    def left_out(self) -> tuple[LeftOut, ...]:
        """What of the description is no entry here, with the reasons."""
        return self.layout.left_out if self.layout is not None else ()

    def _axis(self, which: str) -> Axis | None:
        entry = self.layout.by_key.get(self.shown()) if self.layout is not None else None
        return (entry.x if which == "x" else entry.y) if entry is not None else None

    def axes(self) -> dict[str, str]:
        """What measures the axes of the table in hand, in words, by x and y."""
        found = {}
        for which in ("x", "y"):
            axis = self._axis(which)
            if axis is not None:
                kind = CHANNELS.get(axis.input)
                by = "" if axis.input_said else ", by its name"
                found[which] = f"{which}: {kind.title.lower()}{by}" if kind is not None else f"{which}: unknown"
        return found

    def inputs(self, which: str) -> list[tuple[str, str]]:
        """The channels that an axis of the table in hand can be of: those of its unit, and none."""
        axis, table = self._axis(which), self.maps.table()
        if axis is None or table is None:
            return []
        unit = (table.x if which == "x" else table.y).unit
        quantity = UNITS[unit].quantity if unit in UNITS else ""
        kinds = [(k, CHANNELS[k]) for k in CHANNELS if CHANNELS[k].quantity == quantity and CHANNELS[k].index is None]
        return [*((k, kind.title) for k, kind in kinds), ("", "nothing that is measured")]

    def say_input(self, which: str, channel: str) -> None:
        """Say what an axis of the table in hand is of. Raises JobError."""
        job, key = self._job(), self.shown()
        title = CHANNELS[channel].title.lower() if channel else "nothing that is measured"
        what = f"Axis {which} of {self.title(key)} is of {title}."
        by = self.session.settings.author or "not named"
        self._put(job, core.with_input(job.layout, key, which, channel), f"{by}: {what}", what)

    def say(self, role: str, keys: Sequence[str]) -> None:
        """Say what has a role; nothing where none has. Raises JobError, CalibrationError."""
        what = ", ".join(self.title(k) for k in keys) or "no table"
        self._keep({role: list(keys)}, f"{core.title_of(role)}: {what}.")

    def confirm_all(self) -> None:
        """Take the likeliest for each role of which nothing was said. Raises JobError."""
        found = {r: [p.key] for r in core.kinds() if self.said(r) is None and (p := self.likeliest(r)) is not None}
        if found:
            self._keep(found, f"{len(found)} roles confirmed as they were proposed.")

    def _keep(self, said: dict[str, list[str]], what: str) -> None:
        job = self._job()
        by = self.session.settings.author or "not named"
        self._put(job, core.with_roles(job.layout, said, by), f"{by}: {what}", what)

    def _job(self) -> Job:
        job = self.session.job
        if job is None or not job.has_maps:
            raise JobError("the job has no maps yet", remedy="Import its stock image under Maps.")
        return job

    def _put(self, job: Job, layout: Layout, sentence: str, said: str) -> None:
        job.save_layout(layout, sentence)
        self.session.layout_changed()
        self.session.say(said)

    def save(self, path: Path) -> None:
        """Write the roles to a file. Raises FormatError, JobError."""
        write_whole(path, core.roles_to_toml(self._job().layout).encode("utf-8"))
        self.session.say(f"The roles are in {path}.")

    def load(self, path: Path) -> None:
        """Take roles from a file. Raises FormatError, CalibrationError, JobError; then nothing has changed."""
        job = self._job()
        layout, lost = core.with_roles_of(job.layout, read_text(path, core.MOST_BYTES), source=path.name)
        more = f" {len(lost)} names of it are not in this layout: {', '.join(lost[:5])}." if lost else ""
        self._put(job, layout, f"Roles imported from {path.name}.", f"Roles imported from {path.name}.{more}")
