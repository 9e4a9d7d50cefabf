"""The release package: a zip with image, maps, evidence, sheet and a manifest that names each file's SHA-256."""

from __future__ import annotations

import hashlib
import io
import json
import zipfile
import zlib
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from yarvic.core.calibration.image import image_id, read_header
from yarvic.core.document import first_fault
from yarvic.core.errors import CalibrationError, FormatError, ReleaseError
from yarvic.core.formats.files import write_whole
from yarvic.core.formats.hex_image import hex_to_image

KIND = "yarvic release 1"
MANIFEST = "manifest.json"
IMAGE = "image.hex"
MOST_FILES = 64
MOST_BYTES = 128 * 1024 * 1024
# What a damaged or hostile zip raises when it is opened or read.
_DAMAGE = (
    zipfile.BadZipFile,
    zipfile.LargeZipFile,
    zlib.error,
    EOFError,
    NotImplementedError,
    RuntimeError,
    UnicodeDecodeError,
    ValueError,
)
# Fixed, so that the same content gives the same package.
_ZIP_TIME = (1980, 1, 1, 0, 0, 0)


class _Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class FileEntry(_Strict):
    """A file of the package."""

    sha256: Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")]
    size: Annotated[int, Field(ge=0, le=MOST_BYTES)]


class WaiverEntry(_Strict):
    """A condition set aside."""

    condition: str
    name: str
    reason: str
    time: str


class Manifest(_Strict):
    """What was signed, by whom, and the content of every file."""

    kind: str
    job: str
    vehicle: str
    family: str
    revision: str
    reason: str
    build: str
    author: str
    signed_by: str
    time: str
    image_sha256: str
    image_size: Annotated[int, Field(gt=0, le=16 * 1024 * 1024)]
    simulated: bool
    waivers: list[WaiverEntry]
    files: dict[str, FileEntry]


def build_package(files: Mapping[str, bytes], facts: Mapping[str, object]) -> tuple[bytes, str]:
    """The package's bytes and its manifest's SHA-256. `facts` are the manifest's fields but `kind` and `files`."""
    entries = {
        name: FileEntry(sha256=hashlib.sha256(data).hexdigest(), size=len(data)) for name, data in files.items()
    }
    manifest = Manifest.model_validate({"kind": KIND, "files": entries, **facts})
    text = (manifest.model_dump_json(indent=1) + "\n").encode("utf-8")
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in {**files, MANIFEST: text}.items():
            archive.writestr(zipfile.ZipInfo(name, _ZIP_TIME), data, zipfile.ZIP_DEFLATED)
    return out.getvalue(), hashlib.sha256(text).hexdigest()


def write_package(path: Path, data: bytes) -> None:
    """Write a package, whole or not at all; a file of that name is never replaced. Raises FormatError."""
    if path.exists():
        raise FormatError("a file of this name is there already", concerns=str(path), remedy="Choose another name.")
    write_whole(path, data)


@dataclass(frozen=True)
class Verified:
    """What a package turned out to be: its manifest and all that is wrong with it; intact when nothing is."""

    manifest: Manifest
    manifest_sha256: str
    faults: tuple[str, ...]

    @property
    def intact(self) -> bool:
        """Whether the package is what was signed."""
        return not self.faults


def verify_package(path: Path) -> Verified:
    """Compare a package with its manifest.

    Raises ReleaseError when the file is no package at all; a package that was changed is returned with its faults.
    Never unpacks more than its bounds, and writes nothing.
    """
    try:
        with zipfile.ZipFile(path) as archive:
            return _verify(archive, path)
    except _DAMAGE as error:
        raise ReleaseError(
            "this is not a release package, or it is damaged",
            concerns=str(path),
            remedy="Ask the shop for the package again.",
            details=str(error),
        ) from None
    except OSError as error:
        raise ReleaseError(
            f"cannot be read: {error.strerror or error}", concerns=str(path), remedy="Choose another file."
        ) from None


def _verify(archive: zipfile.ZipFile, path: Path) -> Verified:
    infos = archive.infolist()
    names = [i.filename for i in infos]
    if len(infos) > MOST_FILES or sum(i.file_size for i in infos) > MOST_BYTES:
        raise ReleaseError(
            "holds more than a release can", concerns=str(path), remedy="This is another kind of file."
        )
    if MANIFEST not in names:
        raise ReleaseError("there is no manifest in it", concerns=str(path), remedy="Choose a release package.")
    text = _read(archive, MANIFEST, 4_000_000)
    try:
        manifest = Manifest.model_validate_json(text)
    except ValidationError as error:
        raise ReleaseError(
            f"its manifest cannot be understood: {first_fault(error)}",
            concerns=str(path),
            remedy="Ask the shop for the package again.",
        ) from None
    faults = [f"{name} is there twice" for name in sorted({n for n in names if names.count(n) > 1})]
    faults += [f"{name} does not belong to the release" for name in names if name not in {*manifest.files, MANIFEST}]
    content: dict[str, bytes] = {}
    for name, entry in manifest.files.items():
        if name not in names:
            faults.append(f"{name} is missing")
            continue
        try:
            data = _read(archive, name, entry.size + 1)
        except _DAMAGE:
            faults.append(f"{name} is damaged")
            continue
        if hashlib.sha256(data).hexdigest() != entry.sha256:
            faults.append(f"{name} is not what was signed")
        content[name] = data
    if IMAGE in content:
        faults += _image_faults(content[IMAGE], manifest)
    elif not any(IMAGE in f for f in faults):
        faults.append(f"{IMAGE} is missing")
    return Verified(manifest, hashlib.sha256(text).hexdigest(), tuple(faults))


def _image_faults(hex_bytes: bytes, manifest: Manifest) -> list[str]:
    try:
        image = hex_to_image(hex_bytes.decode("ascii"), manifest.image_size, source=IMAGE)
        header = read_header(image, source=IMAGE)
    except (FormatError, CalibrationError, UnicodeDecodeError) as error:
        return [f"{IMAGE} does not hold an image: {error}"]
    faults = []
    if image_id(image) != manifest.image_sha256:
        faults.append(f"{IMAGE} holds another image than the manifest names")
    if header.family != manifest.family:
        faults.append(f"{IMAGE} is for family {header.family}, the manifest says {manifest.family}")
    return faults


def _read(archive: zipfile.ZipFile, name: str, most: int) -> bytes:
    with archive.open(name) as file:
        return file.read(most)


def json_document(value: object) -> bytes:
    """A JSON document as bytes, for files of the package. NaN is refused, not written."""
    return (json.dumps(value, indent=1, allow_nan=False) + "\n").encode("utf-8")
