"""What a package or a job turns out to be, for the window and the command line: whole, by whose key, known or not."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from yarvic.core.errors import ReleaseError, YarvicError, name_of
from yarvic.core.job.file import is_job
from yarvic.core.job.history import History
from yarvic.core.release.package import Signer, verify_package, whose
from yarvic.core.release.whole_job import JobVerified, verify_job
from yarvic.core.release.witness import Witnessed, read_witness
from yarvic.state.keys import demo_key, known_keys
from yarvic.state.witnesses import chosen_witness, noted_path


@dataclass(frozen=True)
class Report:
    """`about` says what it is, `faults` all that does not fit, `signers` who signed which release, `since` what came
    behind the last signature.
    """

    title: str
    about: tuple[str, ...]
    faults: tuple[str, ...]
    signers: tuple[tuple[str, Signer], ...]
    document: dict[str, Any] = field(repr=False)
    fits: str  # what it means to be whole
    since: tuple[str, ...] = ()

    @property
    def intact(self) -> bool:
        """Whether it is whole."""
        return not self.faults

    @property
    def all_signed(self) -> bool:
        """Whether nothing stands behind the last signature."""
        return len(self.since) < 2 and self.signed

    @property
    def signed(self) -> bool:
        """Whether every release in it carries a signature that fits, by a key that is not known to be a bad one."""
        return bool(self.signers) and all(s.state in ("known", "unknown") for _, s in self.signers)

    @property
    def verdict(self) -> str:
        """Whether it is whole, in words."""
        return f"Whole: {self.fits}." if self.intact else "Not whole: it was changed."


def report_of(
    path: Path,
    cancelled: Callable[[], bool] = lambda: False,
    packages: Sequence[Path] = (),
    witness_files: Sequence[Path] = (),
) -> Report:
    """Verify a package, or a job. For a job, `packages` of it and witness files say what its history was when they were
    made; what was noted at this desk is asked in any case.

    Raises FormatError, ReleaseError, JobError for what is none or cannot be read.
    """
    if is_job(path):
        return _of_job(path, cancelled, packages, witness_files)
    if packages or witness_files:
        raise ReleaseError(
            "is no job: packages and witness files are held against a job",
            concerns=str(path),
            remedy="Name the job first.",
        )
    return _of_package(path)


def _of_package(path: Path) -> Report:
    v = verify_package(path)
    m = v.manifest
    signer = whose(v.signature, m, known_keys(), demo_key().public.key)
    about = (
        f"{m.vehicle}, map {m.revision}: {m.reason}",
        f"Names {m.signed_by} as who signed, {_when(m.time)}"
        + (", measured on the simulated bench" if m.simulated else ""),
        f"Manifest SHA-256 {v.manifest_sha256}",
        *(f"Waived by {w.name}: {w.condition} ({w.reason})" for w in m.waivers),
    )
    document = {
        "intact": v.intact,
        "faults": list(v.faults),
        "signature": _document(signer),
        "manifest_sha256": v.manifest_sha256,
        "manifest": m.model_dump(mode="json"),
    }
    fits = "every file is what its manifest names"
    return Report(name_of(path), about, v.faults, (("", signer),), document, fits)


def _of_job(
    path: Path, cancelled: Callable[[], bool], packages: Sequence[Path], witness_files: Sequence[Path]
) -> Report:
    witnesses, unread = _noted()
    witnesses += [w for file in witness_files for w in read_witness(file)]
    v = verify_job(path, known_keys(), demo_key().public.key, cancelled, witnesses)
    h = v.history
    of_packages, said = _by_packages(packages, h)
    faults = (*v.faults, *said)
    about = [f"{h.lines} lines in its journal, the last with the sum {h.head[:16]}"]
    if not h.lines:
        about = ["Written by an older Yarvic: its history carries no sums yet"]
    about += [_witnessed(len(v.witnesses) + of_packages), *unread]
    document = {
        "intact": not faults,
        "faults": list(faults),
        "lines": h.lines,
        "head": h.head,
        "signed_up_to": v.signed_up_to,
        "changed_since": [
            {
                "line": line.number,
                "time": line.time,
                "subject": line.subject,
                "sentence": line.sentence,
                "records": [list(record) for record in line.records],
                "signed_as_another": v.signed_as_another(line),
            }
            for line in v.changed_since
        ],
        "witnesses": len(v.witnesses) + of_packages,
        "releases": [{"revision": r.revision, "line": r.line, **_document(r.signer)} for r in v.releases],
    }
    fits = "journal and records fit together"
    signers = tuple((f"{r.revision}, up to line {r.line}" if r.line else r.revision, r.signer) for r in v.releases)
    return Report(name_of(path), tuple(about), faults, signers, document, fits, _since(v))


def _noted() -> tuple[list[Witnessed], list[str]]:
    """What was noted at this desk and in the file that was chosen, and in sentences what of it cannot be read."""
    found: list[Witnessed] = []
    unread: list[str] = []
    for file in (noted_path(), chosen_witness()):
        try:
            if file is not None and file.exists():
                found += read_witness(file)
        except YarvicError as error:
            unread.append(f"What was noted elsewhere could not be asked: {error}")
    return list(dict.fromkeys(found)), unread


def _since(v: JobVerified) -> tuple[str, ...]:
    """How far signatures reach, and what stands behind them."""
    lines, up_to = v.history.lines, v.signed_up_to
    if not lines:
        return ()
    if not up_to:
        return ("Nothing in it is signed: whoever can write the file can write its history anew.",)
    if up_to == lines:
        return (f"Signed up to line {up_to} of {lines}.",)
    found = [f"Signed up to line {up_to} of {lines}: what follows is not covered."]
    for line in v.changed_since:
        changed = "".join(f" Changes {each}, which was signed as another." for each in v.signed_as_another(line))
        found.append(f"Line {line.number}, {_when(line.time)}, {line.subject}: {line.sentence}{changed}")
    return tuple(found)


def _witnessed(count: int) -> str:
    if count:
        times = "once" if count == 1 else f"{count} times"
        return f"Outside this file its history was noted {times}: lines before that would be missed"
    return "Nothing outside this file tells whether lines were cut from its end: no package or witness file was named"


def _by_packages(packages: Sequence[Path], history: History) -> tuple[int, list[str]]:
    """How many packages bear witness of a history, and what does not fit."""
    count, faults = 0, []
    for path in packages:
        v = verify_package(path)
        name, entry = name_of(path, 80), v.manifest.history
        if v.signature.state != "good":
            faults.append(f"{name} is no witness: its manifest was changed, or nobody signed it")
            continue
        count += 1
        seen = Witnessed(history.start, entry.lines, entry.sha256, v.manifest.time, name)
        faults += [said for said in (seen.fault(history),) if said]
    return count, faults


def _when(time: str) -> str:
    """A time as it is read: day and minute."""
    return f"{time[:10]} {time[11:16]} UTC" if time.endswith("+00:00") else time


def _document(signer: Signer) -> dict[str, Any]:
    return {
        "state": signer.state,
        "fingerprint": signer.fingerprint,
        "known": signer.trusted,
        "known_as": signer.known_as,
        "sentence": signer.sentence,
    }
