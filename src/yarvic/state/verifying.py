"""What a package or a job turns out to be, for the window and the command line: whole, by whose key, known or not."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from yarvic.core.job.file import is_job
from yarvic.core.release.package import Signer, verify_package, whose
from yarvic.core.release.whole_job import verify_job
from yarvic.state.keys import demo_key, known_keys


@dataclass(frozen=True)
class Report:
    """`about` says what it is, `faults` all that does not fit, `signers` who signed which release."""

    title: str
    about: tuple[str, ...]
    faults: tuple[str, ...]
    signers: tuple[tuple[str, Signer], ...]
    document: dict[str, Any] = field(repr=False)
    fits: str  # what it means to be whole

    @property
    def intact(self) -> bool:
        """Whether it is whole."""
        return not self.faults

    @property
    def signed(self) -> bool:
        """Whether every release in it carries a signature that fits, by a key that is not known to be a bad one."""
        return bool(self.signers) and all(s.state in ("known", "unknown") for _, s in self.signers)

    @property
    def verdict(self) -> str:
        """Whether it is whole, in words."""
        return f"Whole: {self.fits}." if self.intact else "Not whole: it was changed."


def report_of(path: Path, cancelled: Callable[[], bool] = lambda: False) -> Report:
    """Verify a package, or a job. Raises FormatError, ReleaseError, JobError for what is none or cannot be read."""
    return _of_job(path, cancelled) if is_job(path) else _of_package(path)


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
    return Report(path.name, about, v.faults, (("", signer),), document, fits)


def _of_job(path: Path, cancelled: Callable[[], bool]) -> Report:
    v = verify_job(path, known_keys(), demo_key().public.key, cancelled)
    h = v.history
    about = f"{h.lines} lines in its journal, the last with the sum {h.head[:16]}"
    if not h.lines:
        about = "Written by an older Yarvic: its history carries no sums yet"
    document = {
        "intact": v.intact,
        "faults": list(v.faults),
        "lines": h.lines,
        "head": h.head,
        "releases": [{"revision": name, **_document(signer)} for name, signer in v.releases],
    }
    fits = "journal and records fit together"
    return Report(path.name, (about,), v.faults, v.releases, document, fits)


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
