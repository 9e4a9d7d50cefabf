"""Whether a job is what was recorded in it: its file, its history, and the signatures of its releases."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from yarvic.core.errors import ReleaseError, in_plain
from yarvic.core.job.file import verify
from yarvic.core.job.history import History
from yarvic.core.job.model import Release
from yarvic.core.job.store import Job
from yarvic.core.release.keys import KnownKeys
from yarvic.core.release.package import Signer, signature_of, whose


@dataclass(frozen=True)
class JobVerified:
    """What a job turned out to be: its history, all that does not fit, and who signed which release."""

    history: History
    faults: tuple[str, ...]
    releases: tuple[tuple[str, Signer], ...]

    @property
    def intact(self) -> bool:
        """Whether everything fits."""
        return not self.faults


def verify_job(
    path: Path, known: KnownKeys, demo_key: str = "", cancelled: Callable[[], bool] = lambda: False
) -> JobVerified:
    """Go through a job. Raises JobError where the file is damaged, Cancelled; what does not fit is returned.

    A release's signature is over its manifest, and that names the sum of the journal's last line at the time: whoever
    writes the history anew needs the signer's key.
    """
    history = verify(path, cancelled=cancelled)
    faults, releases = list(history.faults), []
    job = Job.open(path, read_only=True)
    try:
        names = {r.id: r.name for r in job.revisions()}
        images = {r.id: r.image for r in job.revisions()}
        for release in job.releases():
            name = names.get(release.revision_id, "?")
            signer, wrong = _release(release, name, images.get(release.revision_id, ""), history, known, demo_key)
            releases.append((name, signer))
            faults += [f"release {in_plain(name, 40)}: {each}" for each in wrong]
    finally:
        job.close()
    return JobVerified(history, tuple(faults), tuple(releases))


def _release(
    release: Release, name: str, image: str, history: History, known: KnownKeys, demo_key: str
) -> tuple[Signer, list[str]]:
    if not release.manifest:
        sentence = "Recorded before releases were signed with a key: nothing proves who made it."
        return Signer("unsigned", sentence), []
    try:
        manifest, signature = signature_of(release.manifest, release.signature)
    except ReleaseError as error:
        return Signer("does not fit", "Its manifest cannot be understood."), [error.what]
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
    if history.sums and (lines > len(history.sums) or history.sums[lines - 1] != manifest.history.sha256):
        faults.append("the history is not the one that was signed: lines before it were changed")
    return signer, faults
