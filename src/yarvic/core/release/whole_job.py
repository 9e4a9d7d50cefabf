"""Whether a job is what was recorded in it: its file, its history, the signatures of its releases and their reach."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from yarvic.core.errors import ReleaseError, in_plain
from yarvic.core.job.file import verify
from yarvic.core.job.history import CHANGING, History, Line
from yarvic.core.job.model import Release
from yarvic.core.job.store import Job
from yarvic.core.release.keys import KnownKeys
from yarvic.core.release.package import Signer, signature_of, whose
from yarvic.core.release.witness import Witnessed


@dataclass(frozen=True)
class Signed:
    """A release of a job: its revision, who signed it, the line of the journal that its signature reaches to, 0 for none."""

    revision: str
    signer: Signer
    line: int


@dataclass(frozen=True)
class JobVerified:
    """What a job turned out to be: its history, all that does not fit, who signed which release, and which witnesses of
    it there were.
    """

    history: History
    faults: tuple[str, ...]
    releases: tuple[Signed, ...]
    witnesses: tuple[Witnessed, ...] = ()

    @property
    def intact(self) -> bool:
        """Whether everything fits."""
        return not self.faults

    @property
    def signed_up_to(self) -> int:
        """The last line that a signature reaches to: of a key that is known here, where one is. 0 where none does."""
        known = [r.line for r in self.releases if r.signer.trusted]
        return max(known or [r.line for r in self.releases], default=0)

    @property
    def changed_since(self) -> tuple[Line, ...]:
        """The lines behind that one: nobody has signed them."""
        return self.history.journal[self.signed_up_to :]

    def signed_as_another(self, line: Line) -> list[str]:
        """The records that a line changes and that were signed as something else."""
        before = {record for each in self.history.journal[: self.signed_up_to] for record in each.records}
        return [_said(kind, key) for kind, key in line.records if kind in CHANGING and (kind, key) in before]


def _said(kind: str, key: str) -> str:
    return "the job sheet" if kind == "sheet" else f"the waiver of {in_plain(key.partition(' ')[2], 60)}"


def verify_job(
    path: Path,
    known: KnownKeys,
    demo_key: str = "",
    cancelled: Callable[[], bool] = lambda: False,
    witnesses: Sequence[Witnessed] = (),
) -> JobVerified:
    """Go through a job. Raises JobError where the file is damaged, Cancelled; what does not fit is returned.

    A release's signature is over its manifest, and that names the sum of the journal's last line at the time: whoever
    writes the history anew needs the signer's key. What was cut from its end is missed by `witnesses`.
    """
    history = verify(path, cancelled=cancelled)
    faults, releases = list(history.faults), []
    job = Job.open(path, read_only=True)
    try:
        names = {r.id: r.name for r in job.revisions()}
        images = {r.id: r.image for r in job.revisions()}
        for release in job.releases():
            name = names.get(release.revision_id, "?")
            found, wrong = _release(release, name, images.get(release.revision_id, ""), history, known, demo_key)
            releases.append(found)
            faults += [f"release {in_plain(name, 40)}: {each}" for each in wrong]
    finally:
        job.close()
    mine = tuple(w for w in witnesses if w.start == history.start)
    faults += list(dict.fromkeys(filter(None, (w.fault(history) for w in mine))))
    return JobVerified(history, tuple(faults), tuple(releases), mine)


def _release(
    release: Release, name: str, image: str, history: History, known: KnownKeys, demo_key: str
) -> tuple[Signed, list[str]]:
    if not release.manifest:
        sentence = "Recorded before releases were signed with a key: nothing proves who made it."
        return Signed(name, Signer("unsigned", sentence), 0), []
    try:
        manifest, signature = signature_of(release.manifest, release.signature)
    except ReleaseError as error:
        return Signed(name, Signer("does not fit", "Its manifest cannot be understood."), 0), [error.what]
    signer, faults = whose(signature, manifest, known, demo_key), []
    if signature.state == "bad":
        faults.append("its signature does not fit its manifest")
    if hashlib.sha256(release.manifest.encode("utf-8")).hexdigest() != release.manifest_sha256:
        faults.append("its manifest is not the one that was recorded")
    if (manifest.revision, manifest.signed_by) != (name, release.name):
        faults.append("its manifest names another revision or signer than the job does")
    if manifest.image_sha256 != image:
        faults.append("its manifest names another image than its revision has")
    lines = manifest.history.lines
    fits = history.has(lines, manifest.history.sha256)
    if history.lines and not fits:
        faults.append("the history is not the one that was signed: lines before it were changed")
    return Signed(name, signer, lines if fits and signature.state == "good" else 0), faults
