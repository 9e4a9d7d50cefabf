"""What the evidence of each revision says: its pulls with their findings and curves, and how they stand together."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from yarvic.core.checks.against_baseline import kind_of
from yarvic.core.checks.baseline import Deviation
from yarvic.core.checks.evidence_of_pull import EngineKind
from yarvic.core.checks.finding import NO_DATA, STOP, Finding, verdict
from yarvic.core.checks.limits import Limits
from yarvic.core.checks.run import Summary
from yarvic.core.evidence.dyno import Curve, Held
from yarvic.core.evidence.log import Log
from yarvic.core.evidence.problems import Problem
from yarvic.core.evidence.pulls import Pull
from yarvic.core.job.model import Evidence
from yarvic.core.plan.vehicle import Vehicle

if TYPE_CHECKING:
    from yarvic.core.checks.causes import Causes
    from yarvic.core.evidence.origin import Origin

FULL_THROTTLE = 1.0
# What a sheet's curve and its conditions are made of: no trace of its own.
OF_CURVE = frozenset(
    {
        "engine_speed",
        "vehicle_speed",
        "roller_speed",
        "power",
        "torque",
        "ambient_pressure",
        "ambient_temperature",
        "humidity",
    }
)


@dataclass(frozen=True)
class PullResult:
    """One pull with all that was computed of it. `curves` are by correction standard, empty without a dyno.

    Its log stays in the job's file and is read where it is looked at, so that memory does not grow with the runs.
    """

    evidence: Evidence
    read_log: Callable[[], Log] = field(compare=False, repr=False)
    pull: Pull
    findings: tuple[Finding, ...]
    curves: dict[str, Curve]
    held: Held | None = None
    number: int = 0  # of the pull in its run
    of: int = 1  # how many pulls the run holds
    sheet: Evidence | None = None  # the dyno sheet that its curve is from, where it was joined to one
    traces: bool = True  # whether there is something to draw besides a curve
    off: Mapping[str, Deviation] = field(default_factory=dict, repr=False)  # how far it lies from its baseline
    held_against: str = ""  # the baseline, in words
    whole: bool = False  # no pull was found in its log: it stands for all of it

    def causes(self, engine: EngineKind) -> Causes:
        """What its findings point at together."""
        from yarvic.core.checks.causes import causes  # not needed at start

        return causes(self.findings, [self.off], kind_of(engine))

    @property
    def log(self) -> Log:
        """Its log. Raises JobError when the job was closed, or the log is damaged."""
        return self.read_log()

    @property
    def files(self) -> list[Origin]:
        """The files that it rests on: that of its log, and the dyno sheet of its curve."""
        runs = [self.evidence, *([self.sheet] if self.sheet is not None else [])]
        return [e.origin for e in runs if e.origin is not None]

    @property
    def title(self) -> str:
        """The pull's name in lists."""
        if self.whole:
            return f"{self.evidence.title}, no pull"
        return f"{self.evidence.title}, pull {self.number + 1}" if self.of > 1 else self.evidence.title

    @property
    def throttle(self) -> float:
        """The throttle it was run at, to the nearest twentieth; without conditions its own trace decides."""
        c = self.evidence.conditions
        stated = c.throttle if c is not None else None
        return round((stated if stated is not None else self.pull.throttle) * 20.0) / 20.0

    @property
    def basis(self) -> str:
        """Whether its curves are of the wheels or the crank; empty without one."""
        return next((c.basis for c in self.curves.values()), "")

    @property
    def sweeps(self) -> bool:
        """Whether it is a pull, and not a held speed or a climb."""
        return not self.whole and self._swept

    @property
    def _swept(self) -> bool:
        return self.evidence.conditions is None or self.evidence.conditions.run not in ("hold", "climb", "coast")


@dataclass(frozen=True)
class JudgedRun:
    """What one run gave, as it was read and assigned then, by the limits and for the vehicle that it was judged by."""

    evidence: Evidence
    limits: Limits
    vehicle: Vehicle
    pulls: tuple[PullResult, ...]
    problems: tuple[Problem, ...]
    sheets: tuple[Evidence, ...] = ()  # the curves that were joined to it then
    against: tuple[str, ...] = ()  # the runs of its baseline then
    whole: PullResult | None = None  # all of its log, where no pull was found in it


@dataclass(frozen=True)
class RevisionResults:
    """All pulls of one revision, their findings by check, and the verdict. `runs` are what they came from, by id."""

    revision_id: int
    pulls: tuple[PullResult, ...]
    summaries: tuple[Summary, ...]
    problems: tuple[Problem, ...]
    unjudged: tuple[str, ...] = ()  # families that apply to the engine, and that no run could answer
    runs: Mapping[str, JudgedRun] = field(default_factory=dict, compare=False, repr=False)
    beside: tuple[PullResult, ...] = ()  # the logs without a pull

    @property
    def verdict(self) -> str:
        """The worst severity found; `no_data` without pulls, and where something that applies was not judged."""
        found = verdict([s.worst for s in self.summaries])
        return NO_DATA if self.unjudged and found != STOP else found

    def together(
        self, throttle: float = FULL_THROTTLE, like: RevisionResults | None = None, standard: str = "none"
    ) -> list[PullResult]:
        """The pulls at a throttle that may stand in one mean: alike in fuel, slot, dyno, gear, way, faults and build.

        All of them have a curve by `standard`: one of a file that names no weather has only its own. Alike with the
        newest; or with the newest of them that compares with `like`, where there is one.
        """
        mine = [p for p in self.pulls if standard in p.curves and p.throttle == throttle]
        there = like.together(throttle, standard=standard) if like is not None and like is not self else []
        first = next((p for p in reversed(mine) if there and not unlike(p, there[-1])), None)
        first = first or (mine[-1] if mine else None)
        return [p for p in mine if first is not None and not apart(p, first)]

    def curves(
        self, standard: str, throttle: float = FULL_THROTTLE, like: RevisionResults | None = None
    ) -> list[Curve]:
        """The curves of the pulls that may stand together at a throttle, corrected by a standard."""
        return [p.curves[standard] for p in self.together(throttle, like, standard)]

    def as_measured(
        self, standard: str, throttle: float = FULL_THROTTLE, like: RevisionResults | None = None
    ) -> list[Curve]:
        """What the curves by a standard were as measured; empty where that is not known of all of them."""
        pulls = self.together(throttle, like, standard)
        return [p.curves["none"] for p in pulls] if all("none" in p.curves for p in pulls) else []

    @property
    def throttles(self) -> list[float]:
        """The throttles at which there are curves, full first."""
        return sorted({p.throttle for p in self.pulls if p.curves}, reverse=True)

    @property
    def counted(self) -> str:
        """How many pulls there are, or runs where not all of them are pulls, in words."""
        count, noun = len(self.pulls), "pull" if all(p.sweeps for p in self.pulls) else "run"
        return f"{count} {noun}" if count == 1 else f"{count} {noun}s"

    @property
    def on_builds(self) -> str:
        """On which builds it was measured, in words; empty without pulls."""
        builds = sorted({p.evidence.on_build for p in self.pulls})
        if not builds:
            return ""
        return f"build {builds[0]}" if len(builds) == 1 else f"builds {', '.join(map(str, builds))}"

    @property
    def simulated(self) -> bool:
        """Whether any of it was measured on the simulated bench."""
        return any(p.evidence.conditions is not None and p.evidence.conditions.simulated for p in self.pulls)

    @property
    def full_pulls(self) -> int:
        """How many pulls at full throttle there are."""
        return len(self.at_full_throttle)

    @property
    def at_full_throttle(self) -> list[PullResult]:
        """The pulls at full throttle."""
        return [p for p in self.pulls if p.throttle == FULL_THROTTLE and p.sweeps]


def logged(results: RevisionResults | None) -> list[PullResult]:
    """The pulls of which there is a log, or a curve with more beside it than power and torque; then logs without a pull."""
    return [*(p for p in results.pulls if p.traces), *results.beside] if results is not None else []


def simulated_mark(results: RevisionResults | None) -> str:
    """What stands before numbers that no real vehicle gave; empty for those that one did."""
    if results is None or not results.simulated:
        return ""
    both = any(p.evidence.origin is not None for p in results.pulls)
    return "simulated bench and files · " if both else "simulated bench · "


def apart(one: PullResult, other: PullResult) -> list[str]:
    """What keeps two pulls out of one mean; empty when nothing does."""
    reasons = []
    if one.evidence.on_build != other.evidence.on_build:
        reasons.append(f"they are of builds {one.evidence.build} and {other.evidence.build}")
    return reasons + unlike(one, other)


def unlike(one: PullResult, other: PullResult) -> list[str]:
    """What keeps two pulls from being compared in absolute terms, whatever they are of; empty when nothing is known to."""
    a, b = one.evidence, other.evidence
    if (a.origin is None) != (b.origin is None):
        return ["one is from a file, the other from the simulated bench"]
    reasons = (
        ["one is of the wheels, the other of the crank"] if one.basis and other.basis not in ("", one.basis) else []
    )
    if a.conditions is None or b.conditions is None:
        return reasons
    return reasons + a.conditions.comparable_with(b.conditions)
