"""The release step: the gate of a revision, waivers of its conditions, and signing it into a package."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from yarvic.core.calibration.faults import unknown_sums
from yarvic.core.calibration.image import check_image
from yarvic.core.checks.weather import Measured
from yarvic.core.errors import EvidenceError, ReleaseError, YarvicError, name_of
from yarvic.core.job.model import Revision, Waiver, parts_on
from yarvic.core.job.store import Job
from yarvic.core.release.gate import Case, Condition, changed_slots, gate, set_outside
from yarvic.core.release.grounds import written
from yarvic.core.release.keys import SigningKey
from yarvic.core.release.package import Built, verify_package, write_package
from yarvic.state.readings import compared
from yarvic.state.requests import Request
from yarvic.state.results import PullResult, RevisionResults
from yarvic.state.session import Session
from yarvic.state.signing import Signing, packed
from yarvic.state.witnesses import note
from yarvic.state.work import Asked, Progress


def gate_conditions(session: Session, revision: Revision | None = None) -> list[Condition]:
    """The gate of a revision, the working one where none is named; empty for a draft."""
    job = session.job
    revision = revision or session.working_revision()
    if revision is None or job is None:
        return []
    return gate(_case(session, job, revision))


def _case(session: Session, job: Job, revision: Revision) -> Case:
    stock = session.revisions()[0]
    fault = ""
    slots: tuple[str, ...] = ()
    outside: tuple[str, ...] = ()
    try:
        image = session.image_of(revision)
        check_image(image.data, job.layout, source=revision.name)
        slots = changed_slots(session.image_of(stock), image)
        outside = set_outside(session.image_of(stock), image)
    except YarvicError as error:
        fault = str(error)
    results = session.results.get(revision.id) or RevisionResults(revision.id, (), (), ())
    baseline = session.results.get(stock.id)
    builds = job.builds()
    paired = job.pairing_of(revision.id)
    mean, spread = _band(results, job.sheet.standard, job.sheet.band_rpm)
    return Case(
        sheet=job.sheet,
        revision=revision,
        build=len(builds),
        parts=parts_on(builds),
        image_fault=fault,
        baseline_pulls=baseline.full_pulls if baseline else 0,
        flashes=tuple(job.flashes()),
        carried=tuple(job.carried()),
        unknown_sums=unknown_sums(job.layout),
        outside=outside,
        evidence=tuple(job.runs_of(revision.id)),
        pulls=results.full_pulls,
        summaries=results.summaries,
        band_mean_w=mean,
        band_spread_w=spread,
        changed_slots=slots,
        waivers=tuple(job.waivers(revision.id)),
        units=session.settings.units,
        paired=paired.title if paired is not None else "",
        paired_image=paired.image if paired is not None else "",
        measured=tuple(map(_measured, results.pulls)),
        half_a_pair=session.link.half_a_pair() or (None if paired is not None and session.link.blind else ""),
    )


def _measured(p: PullResult) -> Measured:
    c = p.evidence.conditions
    return Measured(p.findings, c.temperature_k if c is not None else None, c.pressure_pa if c is not None else None)


def _gate_now(session: Session) -> Callable[[Request], Hashable]:
    """What the gate of a request's revision says, as a value that changes when any of it does."""

    def read(request: Request) -> Hashable:
        conditions = gate_conditions(session, session.revision(request.revision))
        return tuple((c.key, c.severity, c.evidence, written(c.grounds), c.waiver is not None) for c in conditions)

    return read


def about_gate(session: Session, kind: str, revision: Revision) -> Request:
    """A request that is bound to what the gate of a revision says now."""
    session.reads.setdefault("the gate", _gate_now(session))
    return session.request(kind, revision=revision.id, reads=("the gate", "builds", "judged by"))


def _band(results: RevisionResults, standard: str, band: tuple[float, float]) -> tuple[float, float]:
    curves = results.curves(standard)
    if len(curves) < 2:
        return float("nan"), float("nan")
    low = max(band[0], *(c.speed_rpm[0] for c in curves))
    high = min(band[1], *(c.speed_rpm[-1] for c in curves))
    try:
        means = np.array([c.mean_power(float(low), float(high)) for c in curves])
    except EvidenceError:
        return float("nan"), float("nan")
    return float(means.mean()), float(means.std(ddof=1))


@dataclass(frozen=True)
class Waiving:
    """A waiver that is being written: the condition as it stood when it was begun, and of which revision."""

    request: Request
    revision: Revision
    condition: Condition


def begin_waiver(session: Session, key: str, revision: Revision | None = None) -> Waiving:
    """Begin to set a condition aside. Raises ReleaseError for a draft, and for one that may not be waived."""
    revision = revision or session.working_revision()
    if revision is None:
        raise ReleaseError("a draft has no gate", remedy="Commit it first.")
    condition = next((c for c in gate_conditions(session, revision) if c.key == key), None)
    if condition is None or not condition.may_waive:
        raise ReleaseError(f"{key} cannot be waived", remedy="Correct it.")
    return Waiving(about_gate(session, "a waiver", revision), revision, condition)


def waive(session: Session, waiving: Waiving, name: str, reason: str) -> Waiver:
    """Set the condition aside for what was found when it was begun.

    Raises JobError without name or reason, and where the gate says something else by now; then nothing is recorded.
    """
    session.still(waiving.request)
    job = session.job
    assert job is not None
    done = job.waive(waiving.revision.id, waiving.condition.key, name, reason, written(waiving.condition.grounds))
    session.bench_changed.emit()
    return done


def capture(session: Session, signer: str, revision: Revision | None = None) -> Signing:
    """The signing of a revision against stock. Raises ReleaseError for a draft or without pulls."""
    job = session.job
    revision = revision or session.working_revision()
    if revision is None or job is None:
        raise ReleaseError("a draft cannot be released", remedy="Commit, flash and pull it first.")
    results = session.results.get(revision.id)
    if results is None or not results.at_full_throttle:
        raise ReleaseError(f"{revision.name} has no pulls at full throttle yet", remedy="Flash it and pull it first.")
    conditions = tuple(gate_conditions(session, revision))
    stock = session.revisions()[0]
    before = session.results.get(stock.id) if stock.id != revision.id else None
    comparison = ": ".join(compared(results, before, standard=session.standard)[1:]) if before is not None else ""
    return Signing(
        about_gate(session, "the release", revision),
        job.sheet,
        tuple(job.builds()),
        session.image_of(revision),
        session.image_of(stock),
        job.clock().isoformat(timespec="seconds"),
        revision,
        results,
        before if before is not None and before.curves(session.standard, like=results) else None,
        stock.name,
        session.standard,
        dict(session.settings.units),
        comparison,
        tuple(c.waiver for c in conditions if c.waiver is not None),  # none that has lapsed
        signer.strip(),
        conditions,
        job.head(),
    )


def release(session: Session, signing: Signing, path: Path, key: Callable[[], SigningKey]) -> None:
    """Sign: build the package, write it and record it, for what the gate said when the person asked.

    `key` gives the signer's key; it is asked beside the window.
    """
    job = session.job
    if job is None:
        return

    def work(progress: Progress, cancelled: Asked) -> tuple[Built, FileMark | None]:
        built = packed(signing, key, progress, cancelled)
        return built, _unrecorded(job, signing, path)

    def apply(made: tuple[Built, FileMark | None]) -> None:
        built, left = made
        if left is not None and left == _mark(path):
            path.unlink()
        write_package(path, built.data)
        try:
            job.record_release(
                signing.revision.id, signing.signer, built.sha256, name_of(path), built.manifest, built.signature
            )
        except YarvicError:
            path.unlink(missing_ok=True)
            raise
        session.say(f"Signed. {path.name}, manifest {built.sha256[:12]}.")
        _noted(session, (job.first_line(), *job.head(), signing.time))

    session.start(signing.request, f"Releasing {signing.revision.name}", work, apply)


def _noted(session: Session, history: tuple[str, int, str, str]) -> None:
    """Note outside the job what its history is now: beside the window, as a folder may be slow."""

    def failed(error: YarvicError) -> None:
        session.failed.emit(
            ReleaseError(
                f"the release stands, and its witness was not written: {error.what}",
                concerns=error.concerns,
                remedy="Without it nobody sees whether lines are cut from the end of this job. Choose another in Keys.",
            )
        )

    chosen = session.settings.witness
    request = session.request("noting the signature")
    session.requests.submit(
        request, "Noting the signature", lambda p, c: note(*history, chosen), lambda _: None, failed=failed
    )


FileMark = tuple[int, int, int]  # which file it is, and when it was written


def _mark(path: Path) -> FileMark | None:
    try:
        found = path.stat()
    except OSError:
        return None
    return found.st_dev, found.st_ino, found.st_mtime_ns


def _unrecorded(job: Job, signing: Signing, path: Path) -> FileMark | None:
    """A package of this very revision that was written but never recorded: the desk ended in between. It may go.

    Anything else of that name stays, and the writing is refused.
    """
    mark = _mark(path)
    if mark is None:
        return None
    try:
        there = verify_package(path)
    except YarvicError:
        return None
    s, m = signing, there.manifest
    mine = (s.sheet.title, s.revision.name, s.revision.image) == (m.job, m.revision, m.image_sha256)
    recorded = {r.manifest_sha256 for r in job.releases()}
    return mark if mine and there.intact and there.manifest_sha256 not in recorded else None
