"""What the evidence of each revision says, computed beside the interface from captured requests."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from typing import TYPE_CHECKING

from yarvic.core.checks.against_baseline import kind_of
from yarvic.core.checks.baseline import Deviation
from yarvic.core.checks.evidence_of_pull import EngineKind
from yarvic.core.checks.finding import NO_DATA, STOP, Finding, verdict
from yarvic.core.checks.limits import Limits
from yarvic.core.checks.run import Summary, check_curve, check_log, families_of, summarize
from yarvic.core.errors import Cancelled, EvidenceError, FormatError, JobError, UnitError
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.conditions import Conditions
from yarvic.core.evidence.dyno import Curve, Held, held_power
from yarvic.core.evidence.log import Log
from yarvic.core.evidence.problems import Problem, problems
from yarvic.core.evidence.pulls import Pull
from yarvic.core.job.model import Evidence, parts_on
from yarvic.core.job.store import Job
from yarvic.core.physics.correction import STANDARDS
from yarvic.core.plan.vehicle import Vehicle
from yarvic.state.baselines import Against, baseline_of
from yarvic.state.work import Asked, Progress

if TYPE_CHECKING:
    from yarvic.core.checks.causes import Causes
    from yarvic.core.evidence.origin import Origin

FULL_THROTTLE = 1.0
# What a sheet's curve and its conditions are made of: no trace of its own.
OF_CURVE = frozenset(
    {"engine_speed", "vehicle_speed", "power", "torque", "ambient_pressure", "ambient_temperature", "humidity"}
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


@dataclass(frozen=True)
class RevisionResults:
    """All pulls of one revision, their findings by check, and the verdict. `runs` are what they came from, by id."""

    revision_id: int
    pulls: tuple[PullResult, ...]
    summaries: tuple[Summary, ...]
    problems: tuple[Problem, ...]
    unjudged: tuple[str, ...] = ()  # families that apply to the engine, and that no run could answer
    runs: Mapping[str, JudgedRun] = field(default_factory=dict, compare=False, repr=False)

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
    """The pulls of which there is a log, or a curve with more beside it than power and torque."""
    return [p for p in results.pulls if p.traces] if results is not None else []


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


def evaluate(
    job: Job,
    revision_ids: list[int],
    progress: Progress,
    cancelled: Asked,
    before: Mapping[int, RevisionResults] | None = None,
) -> dict[int, RevisionResults]:
    """Findings and curves of the given revisions. Raises Cancelled, JobError.

    A run never changes: what `before` holds of it is kept where it was judged by the same limits and vehicle.
    """
    builds, vehicle = job.builds(), job.sheet.vehicle
    limits = {b.number: job.sheet.limits_with(parts_on(builds, b.number)) for b in builds}
    wanted = {r: job.runs_of(r) for r in revision_ids}
    count, total = 0, max(sum(map(len, wanted.values())), 1)
    made = {}
    for revision_id, items in wanted.items():
        runs: dict[str, JudgedRun] = {}
        wrong: list[Problem] = []
        joined = joined_to(items)
        known = before[revision_id].runs if before and revision_id in before else {}
        for item in items:
            if cancelled():
                raise Cancelled("judging was cancelled")
            progress(count / total, f"Judging {item.title}")
            count += 1
            # Of a run whose pulls are of several builds each build has its part.
            part = item.id if item.id not in runs else f"{item.id}, build {item.build}"
            old, by = known.get(part), limits.get(item.on_build)
            if by is None:
                wrong.append(Problem(item.id, f"{item.title} belongs to no build: assign it"))
                continue
            sheets = tuple(
                s for s in joined.values() if s.joined and s.joined[0] == item.id and item.holds(s.joined[1])
            )
            if None in item.aside or item.id in {s.id for s in joined.values()}:
                continue
            if item.joined is not None:
                why = "the pull it is joined to is of another revision, is left out, or has another curve"
                wrong.append(Problem(item.id, f"{item.title} stands alone: {why}"))
            against = baseline_of(job, item)
            asked = (item, sheets, by, vehicle, against.runs if against is not None else ())
            if old is not None and (old.evidence, old.sheets, old.limits, old.vehicle, old.against) == asked:
                runs[part] = old
                continue
            try:
                runs[part] = (
                    _judge_sheet(job, item, by, vehicle)
                    if item.is_sheet
                    else _judge_run(job, item, by, vehicle, sheets, against)
                )
            except (JobError, FormatError) as error:
                # One damaged run does not take the others with it; it is named and counts as not there.
                wrong.append(Problem(item.id, f"{item.title} cannot be read: {error.what}"))
        made[revision_id] = _judged(revision_id, runs, wrong, families_of(vehicle.asked))
    return made


def joined_to(items: Sequence[Evidence]) -> dict[tuple[str, int], Evidence]:
    """The curves that are joined to a pull among these runs that counts, by log and pull; of two the last one counts.

    A curve whose pull is elsewhere, or left out, stands alone: it does not vanish with it.
    """
    logs = [e for e in items if not e.is_sheet and None not in e.aside]
    found: dict[tuple[str, int], Evidence] = {}
    for e in items:
        if not e.is_sheet or e.joined is None or None in e.aside:
            continue
        log, pull = e.joined
        if any(each.id == log and each.holds(pull) and pull not in each.aside for each in logs):
            found[e.joined] = e
    return found


def _judge_sheet(job: Job, item: Evidence, limits: Limits, vehicle: Vehicle) -> JudgedRun:
    """A curve without a log: it answers what a curve does, and nothing else."""
    log = job.log(item.id)
    try:
        found = _curve_of(job, item, log)
    except EvidenceError as error:
        return JudgedRun(item, limits, vehicle, (), (Problem(item.id, f"{item.title} gives no curve: {error}"),))
    conditions = item.conditions or Conditions(simulated=False, run="", fan=None)
    throttle = conditions.throttle if conditions.throttle is not None else FULL_THROTTLE
    checked = check_curve(item.id, log, _uncorrected(found), limits, conditions, throttle)
    read = partial(job.whole_log, item.id)
    drawn = "engine_speed" in log.channels and any(k in CHANNELS and k not in OF_CURVE for k in log.channels)
    pull = PullResult(item, read, checked.pull, checked.findings, _curves(item, found, vehicle), traces=drawn)
    return JudgedRun(item, limits, vehicle, (pull,), ())


def _curve_of(job: Job, item: Evidence, log: Log) -> Curve:
    """The curve of a sheet, as it stands there. Raises EvidenceError where something of it is not known."""
    from yarvic.core.evidence.sheet.curve import sheet_curve

    reading = job.reading(item.id)
    if reading is None or reading.mapping.curve is None:
        raise EvidenceError("what its numbers are was never said", remedy="Read its columns anew.")
    return sheet_curve(log, reading.mapping.curve, reading.understood.columns, item.conditions)


def _judge_run(
    job: Job,
    item: Evidence,
    limits: Limits,
    vehicle: Vehicle,
    sheets: tuple[Evidence, ...],
    against: Against | None,
) -> JudgedRun:
    log = job.whole_log(item.id)  # it is looked at next
    beside: dict[int, tuple[Evidence, Curve]] = {}
    wrong = []
    for sheet in sheets:
        assert sheet.joined is not None
        try:
            beside[sheet.joined[1]] = sheet, _curve_of(job, sheet, job.log(sheet.id))
        except EvidenceError as error:
            wrong.append(Problem(sheet.id, f"{sheet.title} gives no curve: {error}"))
    plain = {n: _uncorrected(c) for n, (_, c) in beside.items()}
    baseline = against.baseline if against is not None else None
    found = check_log(item.id, log, limits, item.conditions, vehicle.asked, plain, baseline, item.spans)
    pulls = tuple(
        PullResult(
            _with_sheet(item, beside.get(number)),
            partial(job.whole_log, item.id),
            checked.pull,
            checked.findings,
            _curves(*(beside.get(number) or (item, checked.curve)), vehicle),
            _held(item, log, checked.pull),
            number,
            len(found),
            beside[number][0] if number in beside else None,
            off=checked.off,
            held_against=baseline.title if baseline is not None and checked.off else "",
        )
        for number, checked in enumerate(found)
        if number not in item.aside and item.holds(number)
    )
    gone = [s for s in sheets if s.joined is not None and s.joined[1] >= len(found)]
    wrong += [Problem(s.id, f"{s.title} is joined to a pull that {item.title} does not hold") for s in gone]
    runs = against.runs if against is not None else ()
    return JudgedRun(item, limits, vehicle, pulls, (*problems(log), *wrong), sheets, runs)


def _uncorrected(curve: Curve) -> Curve:
    """The curve as it was measured, which is what it loaded; still corrected where its factor is not known."""
    if curve.correction.factor != curve.correction.factor:
        return curve
    return curve.corrected(Conditions(simulated=False), "none", boost_controlled=False)


def _with_sheet(item: Evidence, beside: tuple[Evidence, Curve] | None) -> Evidence:
    """A log's run with the conditions of the curve that was measured in it, and its own where that says none.

    The throttle is the log's own: a sheet only supposes it.
    """
    if beside is None:
        return item
    sheet, own = beside[0].conditions, item.conditions
    if sheet is None:
        return item
    own = own or Conditions(simulated=False, run="", fan=None)
    unknown = {k: v for k, v in own.entries().items() if getattr(sheet, k) in (None, "")}
    return replace(item, conditions=sheet.changed(**{**unknown, "throttle": own.throttle}))


def _judged(
    revision_id: int, runs: Mapping[str, JudgedRun], wrong: list[Problem], families: list[str]
) -> RevisionResults:
    pulls = tuple(p for run in runs.values() for p in run.pulls)
    noun = "pulls" if all(p.sweeps for p in pulls) else "runs"
    summaries = summarize([list(p.findings) for p in pulls], noun)
    judged = {s.family for s in summaries}
    unjudged = tuple(f for f in families if f not in judged)
    found = (*wrong, *(p for run in runs.values() for p in run.problems))
    return RevisionResults(revision_id, pulls, tuple(summaries), found, unjudged, runs)


def _held(item: Evidence, log: Log, span: Pull) -> Held | None:
    if item.conditions is None or item.conditions.run != "hold":
        return None
    try:
        return held_power(log, span)
    except EvidenceError:
        return None  # the table then says that there is no number


def _curves(item: Evidence, raw: Curve | None, vehicle: Vehicle) -> dict[str, Curve]:
    if raw is None or item.conditions is None:
        return {}
    diesel, found = vehicle.ignition == "compression", {}
    for n in STANDARDS:
        try:
            found[n] = raw.corrected(
                item.conditions, n, boost_controlled=vehicle.boost_controlled, compression_ignition=diesel
            )
        except (EvidenceError, UnitError):
            continue  # what a standard needs is not known: the curve does not stand by it
    return found
