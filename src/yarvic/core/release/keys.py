"""Who signed: Ed25519 keys (RFC 8032), one for each person, and the list of those that a shop knows.

A private key is a PEM file (PKCS #8, RFC 5958), encrypted where it has a passphrase, and readable by its owner only. A
public key is a short TOML file that is given to others; who receives one compares its fingerprint with its owner.
"""

from __future__ import annotations

import base64
import hashlib
import os
import stat
from dataclasses import dataclass
from datetime import date, timedelta
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Literal

from pydantic import AfterValidator, Field, model_validator

from yarvic.core.document import Document, parse_toml, validated
from yarvic.core.errors import ReleaseError, in_plain
from yarvic.core.formats.files import file_name, make_folder, write_new, write_whole
from yarvic.core.reading import cannot, read_bounded, read_text, reader, understood
from yarvic.core.release.locked_key import MOST_ROUNDS, rounds
from yarvic.core.release.points import can_sign

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

MOST_BYTES = 200_000
MOST_KNOWN = 1000
# How long a key is used before its owner makes another. Our choice: long enough to be no burden, short enough that a
# lost one ends by itself.
VALID_DAYS = 3 * 365
# The longest that any key is used, a colleague's of another make too. Our choice: a key that "never ends" is one that a
# thief may use for ever.
MOST_DAYS = 5 * 366
Day = Annotated[str, Field(pattern=r"^\d{4}-\d{2}-\d{2}$")]
KeyHex = Annotated[str, Field(pattern=r"^[0-9a-f]{64}$"), AfterValidator(lambda key: _of_one_person(key))]
Person = Annotated[str, Field(min_length=1, max_length=80)]


class PublicKey(Document):
    """A key as it is given to others: whose it is, its 32 bytes as hexadecimal digits, and until when it is used."""

    format: Literal["yarvic key 1"] = "yarvic key 1"
    name: Person
    key: KeyHex
    made: Day
    until: Day

    @model_validator(mode="after")
    def _makes_sense(self) -> PublicKey:
        if _day(self.made) > _day(self.until):
            raise ValueError("a key ends after it was made")
        _ends(self.made, self.until)
        return self

    @property
    def fingerprint(self) -> str:
        """What two people compare."""
        return fingerprint(self.key)


class KnownKey(Document):
    """A key in a shop's list: what its owner is called here, since when, and whether it was taken back, and why."""

    name: Person
    key: KeyHex
    added: Day
    until: Day
    own: bool = False
    revoked: Day | None = None
    reason: Annotated[str, Field(max_length=200)] = ""

    @model_validator(mode="after")
    def _makes_sense(self) -> KnownKey:
        if self.revoked is not None:
            _day(self.revoked)
        _ends(self.added, self.until)
        return self

    @property
    def fingerprint(self) -> str:
        """What two people compare."""
        return fingerprint(self.key)


class KnownKeys(Document):
    """The list of the keys that a shop knows."""

    format: Literal["yarvic known keys 1"] = "yarvic known keys 1"
    keys: Annotated[tuple[KnownKey, ...], Field(max_length=MOST_KNOWN)] = ()

    @model_validator(mode="after")
    def _once(self) -> KnownKeys:
        if len({k.key for k in self.keys}) != len(self.keys):
            raise ValueError("a key is there twice")
        return self

    def find(self, key: str) -> KnownKey | None:
        """The entry of a key; None where it is not known."""
        return next((k for k in self.keys if k.key == key), None)

    def added(self, new: PublicKey, today: date, *, own: bool = False) -> KnownKeys:
        """The list with another key. One that is there stays as it is: what was revoked does not come back.

        Raises ReleaseError for a key that is known as somebody else's.
        """
        there = self.find(new.key)
        if there is not None:
            if there.name != new.name:
                raise ReleaseError(
                    f"this key is known here as the key of {in_plain(there.name, 80)}: one key belongs to one person",
                    concerns=in_plain(new.name, 80),
                    remedy="Ask both whose it is. Nothing was added.",
                )
            return self
        entry = KnownKey(name=new.name, key=new.key, added=today.isoformat(), until=new.until, own=own)
        return KnownKeys(keys=(*self.keys, entry))

    def revoked(self, key: str, reason: str, today: date) -> KnownKeys:
        """The list with a key taken back from a day on. Raises ReleaseError where it is not there, or without reason."""
        if self.find(key) is None:
            raise ReleaseError("this key is not in the list", remedy="Add it first, then mark it as revoked.")
        if not reason.strip():
            raise ReleaseError("a key is revoked for a reason", remedy="Say what happened: lost, stolen, left.")
        gone = {"revoked": today.isoformat(), "reason": reason.strip()}
        return KnownKeys(keys=tuple(k.changed(**gone) if k.key == key and not k.revoked else k for k in self.keys))


@dataclass(frozen=True)
class SigningKey:
    """A private key, unlocked, with what others know of it."""

    private: Ed25519PrivateKey
    public: PublicKey

    def sign(self, message: bytes) -> str:
        """The signature of a message, 64 bytes as hexadecimal digits; the same for the same message (RFC 8032, 5.1.6)."""
        return self.private.sign(message).hex()


def fingerprint(key: str) -> str:
    """80 bits of the SHA-256 of a public key, in four groups of base32 (RFC 4648): short enough to be read aloud."""
    text = base64.b32encode(hashlib.sha256(bytes.fromhex(key)).digest()[:10]).decode("ascii")
    return "-".join(text[i : i + 4] for i in range(0, 16, 4))


def signed_by(key: str, signature: str, message: bytes) -> bool:
    """Whether a signature of a message was made with the private half of a public key."""
    from cryptography.exceptions import InvalidSignature
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

    try:
        Ed25519PublicKey.from_public_bytes(bytes.fromhex(key)).verify(bytes.fromhex(signature), message)
    except (InvalidSignature, ValueError):
        return False
    return True


def of_seed(seed: bytes, name: str, made: date) -> SigningKey:
    """The key of 32 bytes (RFC 8032, 5.1.5)."""
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

    private, until = Ed25519PrivateKey.from_private_bytes(seed), made + timedelta(days=VALID_DAYS)
    told = {"name": name, "key": _public_hex(private), "made": made.isoformat(), "until": until.isoformat()}
    return SigningKey(
        private, validated(PublicKey, told, source="key", remedy="Write the name in full, and shorter.")
    )


def _public_hex(private: Ed25519PrivateKey) -> str:
    return private.public_key().public_bytes_raw().hex()


# -- files


def key_path(folder: Path, name: str) -> Path:
    """Where the private key of a person lies."""
    return folder / f"{file_name(name) or 'signer'}.key"


def public_path(private: Path) -> Path:
    """Where the public half lies, beside the private one."""
    return private.with_suffix(".pub.toml")


def make_key(folder: Path, name: str, today: date, passphrase: str = "") -> SigningKey:
    """Make a person's key and write both halves, readable by the owner only. Raises FormatError, ReleaseError."""
    from cryptography.hazmat.primitives import serialization

    made = of_seed(os.urandom(32), name, today)
    lock: serialization.KeySerializationEncryption = (
        serialization.BestAvailableEncryption(passphrase.encode("utf-8"))
        if passphrase
        else serialization.NoEncryption()
    )
    pem = made.private.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, lock)
    make_folder(folder, 0o700)
    try:
        os.chmod(folder, 0o700)
    except OSError as error:
        raise cannot(error, "written", str(folder), ReleaseError) from None
    path = key_path(folder, name)
    # The public half first: a private key without it could sign, and nobody could say for whom.
    write_whole(public_path(path), to_toml(made.public), mode=0o600)
    write_new(path, pem, mode=0o600)
    return made


def set_aside(folder: Path, name: str) -> None:
    """Give both halves of a person's key names of their own, so that another can be made. Raises ReleaseError."""
    path = key_path(folder, name)
    try:
        for old in (path, public_path(path)):
            if old.exists():
                os.replace(old, old.with_name(f"before-{_free(old)}-{old.name}"))
    except OSError as error:
        raise cannot(error, "written", str(path), ReleaseError) from None


def _free(old: Path) -> int:
    return next(n for n in range(1, MOST_KNOWN) if not old.with_name(f"before-{n}-{old.name}").exists())


def to_toml(document: Document) -> bytes:
    """A key or a list of keys as the text of its file."""
    import tomli_w

    return tomli_w.dumps(document.model_dump(mode="json", exclude_none=True)).encode("utf-8")


@reader("signing key", "A person's private key, PEM", ".key", MOST_BYTES)
def read_key(path: Path, passphrase: str = "") -> SigningKey:
    """A private key. Raises FormatError, ReleaseError: for a wrong passphrase, and where others may read it."""
    from cryptography.exceptions import UnsupportedAlgorithm
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
    from cryptography.hazmat.primitives.serialization import load_pem_private_key

    check_rights(path)
    public = read_public_key(public_path(path))
    data = read_bounded(path, MOST_BYTES)
    if rounds(data) > MOST_ROUNDS:
        raise ReleaseError(
            f"asks for {rounds(data):,} rounds to unlock it, at most {MOST_ROUNDS:,} are allowed",
            concerns=str(path),
            remedy="It may be made to harm. Restore the key from a copy, or make a new one.",
        )
    with understood(str(path), ReleaseError, "Restore it from a copy, or make a new key."):
        try:
            private = load_pem_private_key(data, passphrase.encode("utf-8") if passphrase else None)
        except TypeError:
            what = "has no passphrase" if passphrase else "is locked by a passphrase"
            raise ReleaseError(
                f"the key {what}", concerns=str(path), remedy="Enter it, or clear the field."
            ) from None
        except (ValueError, UnsupportedAlgorithm):
            raise ReleaseError(
                "the key cannot be unlocked: the passphrase is wrong, or the file is damaged",
                concerns=str(path),
                remedy="Enter it again. A lost passphrase cannot be replaced: make a new key, and revoke this one.",
            ) from None
    if not isinstance(private, Ed25519PrivateKey):
        raise ReleaseError("is a key of another kind", concerns=str(path), remedy="Make a new key.")
    if _public_hex(private) != public.key:
        raise ReleaseError(
            "the two halves of the key do not belong together", concerns=str(path), remedy="Restore both from a copy."
        )
    return SigningKey(private, public)


def is_locked(path: Path) -> bool:
    """Whether a private key has a passphrase. Raises FormatError."""
    return b"ENCRYPTED" in read_bounded(path, MOST_BYTES)[:100]


def check_rights(path: Path) -> None:
    """Raise ReleaseError where others than the owner may read a private key."""
    try:
        open_to = stat.S_IMODE(os.stat(path).st_mode) & 0o077
    except OSError as error:
        raise cannot(error, "read", str(path), ReleaseError) from None
    if open_to:
        raise ReleaseError(
            "the key may be read by others than its owner, so it proves nothing",
            concerns=str(path),
            remedy=f"Ask yourself who had it. If nobody: chmod 600 '{path.name}'. Else revoke it and make a new one.",
        )


@reader("public key", "A person's public key, TOML", ".toml", MOST_BYTES)
def read_public_key(path: Path) -> PublicKey:
    """A public key. Raises FormatError."""
    return validated(PublicKey, parse_toml(read_text(path, MOST_BYTES), source=path.name), source=path.name)


@reader("known keys", "The list of known keys, TOML", ".toml", MOST_BYTES)
def read_known(path: Path) -> KnownKeys:
    """A list of known keys. Raises FormatError."""
    return validated(KnownKeys, parse_toml(read_text(path, MOST_BYTES), source=path.name), source=path.name)


def _of_one_person(key: str) -> str:
    """A key as it is; raises ValueError for one that anybody could sign with, or that has two names."""
    if not can_sign(bytes.fromhex(key)):
        raise ValueError("these 32 bytes are nobody's key: what they sign proves nothing")
    return key


def _ends(begun: str, until: str) -> None:
    """Raise ValueError for days that are none, and for a key that is used for longer than any is."""
    if _day(until) - _day(begun) > timedelta(days=MOST_DAYS):
        raise ValueError(f"a key is used for {MOST_DAYS // 366} years at most, this one until {until}")


def _day(text: str) -> date:
    try:
        return date.fromisoformat(text)
    except ValueError:
        raise ValueError(f"{text} is no day of the calendar") from None
