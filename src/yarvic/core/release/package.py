"""The release package: image, maps, evidence and sheet, a manifest that names each file's SHA-256, and its signature."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated, Literal

from pydantic import AfterValidator, Field

from yarvic.core.calibration.described import MOST_ADDRESS, MOST_MEMORY
from yarvic.core.calibration.image import image_id
from yarvic.core.document import Document, parse_json, validated
from yarvic.core.errors import FormatError, ReleaseError, in_plain
from yarvic.core.formats.files import write_new
from yarvic.core.formats.images import hex_to_image
from yarvic.core.reading import reader
from yarvic.core.release import archive
from yarvic.core.release.keys import KeyHex, KnownKey, KnownKeys, SigningKey, fingerprint, signed_by
from yarvic.core.release.names import as_said, skeleton

KIND = "yarvic release 2"
MANIFEST = "manifest.json"
SIGNATURE = "manifest.sig"
IMAGE = "image.hex"
EVIDENCE = "evidence.json"
SHEET = "customer-sheet.pdf"
REQUIRED = (IMAGE, EVIDENCE, SHEET)
MOST_MANIFEST = 1_000_000
Words = Annotated[str, Field(max_length=4000)]
Sha256 = Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")]


class FileEntry(Document):
    """A file of the package."""

    sha256: Sha256
    size: Annotated[int, Field(ge=0, le=archive.MOST_BYTES)]


class WaiverEntry(Document):
    """A condition set aside."""

    condition: Words
    name: Words
    reason: Words
    time: Words


class HistoryEntry(Document):
    """The job's journal as it was when the release was signed: its lines, and the sum of the last."""

    lines: Annotated[int, Field(ge=1)]
    sha256: Sha256


class Manifest(Document):
    """What was signed, by whom and with which key, and the content of every file. `key` is empty in an unsigned one."""

    kind: Literal["yarvic release 2"]
    job: Words
    vehicle: Words
    family: Words
    revision: Words
    reason: Words
    build: Words
    author: Words
    signed_by: Words
    key: KeyHex | Literal[""]
    time: Annotated[str, Field(max_length=40), AfterValidator(lambda text: _a_time(text))]
    history: HistoryEntry
    image_sha256: Sha256
    image_size: Annotated[int, Field(gt=0, le=MOST_MEMORY)]
    image_base: Annotated[int, Field(ge=0, le=MOST_ADDRESS)] = 0
    simulated: bool
    waivers: Annotated[tuple[WaiverEntry, ...], Field(max_length=400)]
    files: Annotated[dict[str, FileEntry], Field(max_length=archive.MOST_FILES)]


def _a_time(text: str) -> str:
    """A time as it is; raises ValueError for what is no moment: a day that is none, or a clock without its zone."""
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        raise ValueError(f"{in_plain(text, 40)!r} is no time") from None
    if moment.tzinfo is None:
        raise ValueError(f"{in_plain(text, 40)!r} does not say in which zone it is")
    return text


@dataclass(frozen=True)
class Built:
    """A package's bytes, the text of its manifest and its signature (empty where nobody signed)."""

    data: bytes
    manifest: str
    signature: str

    @property
    def sha256(self) -> str:
        """SHA-256 of the manifest."""
        return hashlib.sha256(self.manifest.encode("utf-8")).hexdigest()


def build_package(files: Mapping[str, bytes], facts: Mapping[str, object], key: SigningKey | None) -> Built:
    """A package; the same files, facts and key give the same bytes.

    `facts` are the manifest's fields but `kind`, `key` and `files`. Raises ReleaseError for what cannot be packed.
    """
    ordered = {name: files[name] for name in sorted(files)}
    entries = {n: FileEntry(sha256=hashlib.sha256(d).hexdigest(), size=len(d)) for n, d in ordered.items()}
    told = {"kind": KIND, "key": key.public.key if key is not None else "", "files": entries, **facts}
    manifest = validated(Manifest, told, source=MANIFEST, error_type=ReleaseError, remedy="Shorten what is too long.")
    text = _text(manifest)
    signature = key.sign(_message(text)) if key is not None else ""
    signed = {SIGNATURE: f"{signature}\n".encode("ascii")} if signature else {}
    return Built(archive.pack({MANIFEST: text, **signed, **ordered}), text.decode("utf-8"), signature)


def _text(manifest: Manifest) -> bytes:
    return (manifest.model_dump_json(indent=1) + "\n").encode("utf-8")


def _message(manifest: bytes) -> bytes:
    """What is signed: the manifest behind the name of its kind, so that no other signature can be passed off as one."""
    return f"{KIND}\0".encode("ascii") + manifest


def write_package(path: Path, data: bytes) -> None:
    """Write a package, whole or not at all; a file of that name is never replaced. Raises FormatError."""
    write_new(path, data)


@dataclass(frozen=True)
class Signature:
    """What a signature says: `none` where there is none, `good` where the key made it, `bad` where it does not fit."""

    state: Literal["none", "good", "bad"]
    key: str = ""

    @property
    def fingerprint(self) -> str:
        """The key's, empty without one."""
        return fingerprint(self.key) if self.key else ""


@dataclass(frozen=True)
class Verified:
    """What a package turned out to be: its manifest, all that is wrong with it, and what its signature says."""

    manifest: Manifest
    manifest_sha256: str
    faults: tuple[str, ...]
    signature: Signature

    @property
    def intact(self) -> bool:
        """Whether it is whole: what the manifest names is there, unchanged, and nothing else."""
        return not self.faults


@reader("release package", "Release package", ".zip", archive.MOST_BYTES + 1024 * 1024)
def verify_package(path: Path) -> Verified:
    """Compare a package with its manifest, and its signature with its key.

    Raises ReleaseError when the file is no package at all; a package that was changed is returned with its faults.
    Reads what it verifies once, never more than its bounds, and writes nothing.
    """
    members, faults = archive.unpack(path)
    text = members.get(MANIFEST)
    if text is None:
        raise ReleaseError("there is no manifest in it", concerns=str(path), remedy="Choose a release package.")
    if len(text) > MOST_MANIFEST:
        raise ReleaseError("its manifest is too long", concerns=str(path), remedy="Ask the shop for it again.")
    source = f"{path.name}, {MANIFEST}"
    manifest = validated(
        Manifest,
        parse_json(text, source=source, error_type=ReleaseError),
        source=source,
        error_type=ReleaseError,
        remedy="Ask the shop for the package again.",
    )
    if _text(manifest) != text:
        faults.append(f"{MANIFEST} is not written as Yarvic writes it")
    faults += _file_faults(members, manifest)
    signature, fault = _signature(members, manifest, text)
    faults += [fault] if fault else []
    return Verified(manifest, hashlib.sha256(text).hexdigest(), tuple(faults), signature)


def _file_faults(members: Mapping[str, bytes], manifest: Manifest) -> list[str]:
    named = {MANIFEST, SIGNATURE, *manifest.files}
    faults = [f"{name} does not belong to the release" for name in members if name not in named]
    faults += [f"the manifest names no {name}" for name in REQUIRED if name not in manifest.files]
    for name, entry in manifest.files.items():
        data = members.get(name)
        if data is None:
            faults.append(f"{in_plain(name, 80)} is missing")
        elif len(data) != entry.size or hashlib.sha256(data).hexdigest() != entry.sha256:
            faults.append(f"{name} is not what the manifest names")
    if IMAGE in members:
        faults += _image_faults(members[IMAGE], manifest)
    return faults


def _signature(members: Mapping[str, bytes], manifest: Manifest, text: bytes) -> tuple[Signature, str]:
    """What the signature says, and what is wrong with it."""
    raw = members.get(SIGNATURE)
    if raw is None:
        if manifest.key:
            return Signature("none"), f"its signature was removed: {SIGNATURE} is missing"
        return Signature("none"), ""
    if not manifest.key:
        return Signature("bad"), "it is signed, and its manifest names no key"
    signature = raw.decode("ascii", errors="replace")
    plain = len(signature) == 129 and signature.endswith("\n") and signature == signature.lower()
    if plain and signed_by(manifest.key, signature[:-1], _message(text)):
        return Signature("good", manifest.key), ""
    return Signature("bad", manifest.key), "its signature does not fit: manifest, key or signature were changed"


def signature_of(manifest: str, signature: str) -> tuple[Manifest, Signature]:
    """What a signature says that a job keeps with the manifest it is of. Raises ReleaseError for no manifest."""
    text = manifest.encode("utf-8")
    found = validated(
        Manifest,
        parse_json(manifest, source=MANIFEST, error_type=ReleaseError),
        source=MANIFEST,
        error_type=ReleaseError,
    )
    members = {SIGNATURE: f"{signature}\n".encode()} if signature else {}
    return found, _signature(members, found, text)[0]


def _image_faults(hex_bytes: bytes, manifest: Manifest) -> list[str]:
    try:
        text = hex_bytes.decode("ascii")
        image = hex_to_image(text, manifest.image_size, base=manifest.image_base, source=IMAGE)
    except (FormatError, UnicodeDecodeError) as error:
        return [f"{IMAGE} does not hold an image: {error}"]
    return (
        [] if image_id(image) == manifest.image_sha256 else [f"{IMAGE} holds another image than the manifest names"]
    )


@dataclass(frozen=True)
class Signer:
    """Whose key signed, as far as it is known here."""

    state: Literal["unsigned", "does not fit", "known", "unknown", "revoked", "ended", "demo"]
    sentence: str
    fingerprint: str = ""
    known_as: str = ""

    @property
    def trusted(self) -> bool:
        """Whether the key is in the list here, and was in use when it signed."""
        return self.state == "known"


def whose(signature: Signature, manifest: Manifest, known: KnownKeys, demo_key: str = "") -> Signer:
    """Say by whose key something was signed, and whether it is known here. The name in the manifest proves nothing."""
    claims = in_plain(manifest.signed_by, 80)
    print_ = signature.fingerprint
    if signature.state == "none":
        return Signer("unsigned", f"Unsigned: it names {claims}, and nothing proves it.")
    if signature.state == "bad":
        return Signer("does not fit", "The signature does not fit: nothing proves who made it.", print_)
    if signature.key == demo_key:
        sentence = "Signed with the key of the demo, which everybody has: it proves nothing."
        return Signer("demo", sentence, print_)
    entry = known.find(signature.key)
    if entry is None:
        others = [k.name for k in known.keys]
        like = "".join(f" {said}" for said in as_said(manifest.signed_by, others))
        sentence = (
            f"Signed by key {print_}, unknown here. It names {claims}: compare the fingerprint with them,"
            f" then add their key.{like}"
        )
        return Signer("unknown", sentence, print_)
    # Both in one zone: a day that is written down elsewhere may have another number.
    day, named = datetime.fromisoformat(manifest.time).astimezone(UTC).date().isoformat(), in_plain(entry.name, 80)
    whom = f"key {print_} of {named}"
    if entry.revoked is not None:
        before = "before that, by its own clock" if day < entry.revoked else "on that day or later"
        reason = f" ({in_plain(entry.reason, 200)})" if entry.reason else ""
        sentence = f"Signed by {whom}, revoked on {entry.revoked}{reason}. This was signed {before}: ask {named}."
        return Signer("revoked", sentence, print_, named)
    if day > entry.until:
        sentence = f"Signed by {whom} after the key had ended on {entry.until}: ask {named} for one signed anew."
        return Signer("ended", sentence, print_, named)
    return Signer(
        "known", f"Signed by {whom}, known here since {entry.added}.{_other(manifest, entry)}", print_, named
    )


def _other(manifest: Manifest, entry: KnownKey) -> str:
    """What is to be said of the name that a manifest gives beside that of the key."""
    if manifest.signed_by == entry.name:
        return "".join(f" {said}" for said in as_said(entry.name, []))
    like = " It only looks like it." if skeleton(manifest.signed_by) == skeleton(entry.name) else ""
    hidden = "".join(f" {said}" for said in as_said(manifest.signed_by, []))
    return f" The package calls them {in_plain(manifest.signed_by, 80)}.{like}{hidden}"


def json_document(value: object) -> bytes:
    """A JSON document as bytes, for files of the package. NaN is refused, not written."""
    return (json.dumps(value, indent=1, allow_nan=False) + "\n").encode("utf-8")
