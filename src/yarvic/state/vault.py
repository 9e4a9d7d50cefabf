"""The shop's vault as it is looked through: found, opened, compared, exported, checked, removed."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from psygnal import Signal

from yarvic.core.calibration.image import Image, open_image
from yarvic.core.errors import Cancelled, JobError, YarvicError
from yarvic.core.formats.files import ascii_name
from yarvic.core.formats.images import SUFFIXES, Form, write_image
from yarvic.core.link.kept import Kept, kept
from yarvic.core.link.vault import Vault
from yarvic.state.acts import LISTING
from yarvic.state.settings import home
from yarvic.state.work import Asked, Progress

if TYPE_CHECKING:
    from yarvic.state.maps import MapsState
    from yarvic.state.requests import Request
    from yarvic.state.session import Session

PROVING = "checking the vault"


@dataclass(frozen=True)
class Held:
    """What the vault keeps, and what is wrong with it."""

    images: tuple[Kept, ...]
    faults: tuple[str, ...]


class VaultState:
    """`changed` is emitted when it was looked through anew."""

    changed = Signal()

    def __init__(self, session: Session) -> None:
        self.session = session
        self.held = Held((), ())
        self.text = ""
        self.looked = False
        self.proven = ""  # when all bytes were checked last, in words

    @property
    def folder(self) -> Path:
        """Where it is."""
        reach = self.session.link.reached()
        return reach.vault_folder if reach is not None else home() / "vault"

    def look(self) -> None:
        """List it anew, and find damage by size: another window may have added to it."""
        folder = self.folder

        def work(progress: Progress, cancelled: Asked) -> Held:
            return _held(folder)

        s = self.session
        s.requests.submit(s.request(LISTING), "Listing the vault", work, self._found, visible=False)

    def _found(self, held: Held) -> None:
        self.held, self.looked = held, True
        self.changed.emit()

    def found(self) -> list[Kept]:
        """The images that fit what is searched for."""
        words = self.text.split()
        return [k for k in self.held.images if k.fits(words)]

    def kept(self, sha: str) -> Kept | None:
        """One of them."""
        return next((k for k in self.held.images if k.sha == sha), None)

    def prove(self) -> None:
        """Check every byte of every image."""
        folder, s = self.folder, self.session

        def work(progress: Progress, cancelled: Asked) -> Held:
            def done(share: float) -> None:
                progress(share, "All images by their sums")
                if cancelled():
                    raise Cancelled("checking the vault was cancelled")

            return _held(folder, tuple(Vault(folder).damaged(thorough=True, done=done)))

        def apply(held: Held) -> None:
            self._found(held)
            many = f"{len(held.images)} images" if len(held.images) != 1 else "1 image"
            self.proven = "all bytes were checked" if not held.faults else ""
            s.say(f"{many} of the vault checked: {'; '.join(held.faults) or 'every byte is right'}.")

        s.start(s.request(PROVING), "Checking the vault", work, apply)

    # -- one image

    def hold_against(self, maps: MapsState, sha: str) -> None:
        """Hold the maps in hand against an image, table by table."""

        def take(image: Image, name: str) -> None:
            maps.compared.against_image(name, image)

        self._open(sha, "comparing with the vault", take)

    def take_into_draft(self, sha: str) -> None:
        """Take the maps of an image into the draft, as one step."""
        self._open(sha, "importing the image", self.session.enter_image)

    def _open(self, sha: str, kind: str, take: Callable[[Image, str], None]) -> None:
        s, folder = self.session, self.folder
        job, found = s.job, self.kept(sha)
        if job is None or not job.has_maps or found is None:
            raise JobError("no job with maps is open", remedy="Open the job that the image is for.")
        layout, name = job.layout, self.name_of(found)

        def read() -> Image:
            return open_image(Vault(folder).get(sha), layout, source=name)

        request = s.request(kind, revision=s.working, reads=("the selected rung",))
        s.read_file(request, Path(name), read, lambda image: take(image, name))

    def name_of(self, found: Kept) -> str:
        """What an image is called: the revision that it was written as, or what it was read from."""
        revision = next((s.revision for s in reversed(found.seen) if s.revision), "")
        of = found.last.serial or found.last.family or "a unit"
        what = revision or ("stock" if found.stock else f"read {found.seen[0].time[:10]}")
        return f"{what} of {of}"

    def file_name(self, found: Kept, form: Form) -> str:
        """The name that an exported image is proposed."""
        return f"{ascii_name(self.name_of(found)) or found.sha[:12]}{SUFFIXES[form]}"

    def export(self, sha: str, path: Path, form: Form, request: Request | None = None) -> None:
        """Write an image, proven whole, to a file."""
        s, folder, found = self.session, self.folder, self.kept(sha)
        if found is None:
            return
        job = s.job
        same = job is not None and job.has_maps and job.layout.family in {each.family for each in found.seen}
        base = job.layout.base if same and job is not None else 0

        def work(progress: Progress, cancelled: Asked) -> int:
            progress(0.2, path.name)
            data = Vault(folder).get(sha)
            write_image(path, data, form, base)
            return len(data)

        def apply(size: int) -> None:
            at = "" if form == "raw" else f", from 0x{base:X}"
            s.say(f"{size:,} bytes are in {path}{at}. Nothing is written to a unit by that.")

        s.start(request or s.request("exporting from the vault"), f"Exporting {path.name}", work, apply)

    def remove(self, sha: str) -> None:
        """Remove an image that is nobody's stock. Raises LinkError."""
        Vault(self.folder).remove(sha)
        self.session.say(f"Image {sha[:12]} is no longer in the vault.")
        self.look()


def _held(folder: Path, faults: tuple[str, ...] | None = None) -> Held:
    if not folder.exists():
        return Held((), ())
    vault = Vault(folder)
    try:
        images = tuple(kept(vault.seen()))
    except YarvicError as error:
        return Held((), (str(error),))
    return Held(images, tuple(vault.damaged()) if faults is None else faults)
