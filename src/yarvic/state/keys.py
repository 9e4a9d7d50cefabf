"""The keys of the people at this desk, and the keys that they know: both lie in the settings' folder."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from datetime import date
from pathlib import Path

from yarvic.core.errors import ReleaseError, YarvicError
from yarvic.core.formats.files import make_folder, write_new, write_whole
from yarvic.core.release.keys import (
    KnownKeys,
    PublicKey,
    SigningKey,
    check_rights,
    is_locked,
    key_path,
    make_key,
    of_seed,
    public_path,
    read_key,
    read_known,
    read_public_key,
    set_aside,
    to_toml,
)
from yarvic.core.release.names import as_said
from yarvic.state.settings import home, make_home

DEMO_SIGNER = "Rowan Sedge"


def keys_folder() -> Path:
    """Where keys are kept."""
    return home() / "keys"


def known_path() -> Path:
    """The list of known keys."""
    return keys_folder() / "known.toml"


def known_keys() -> KnownKeys:
    """The keys that are known at this desk, its own among them. Raises FormatError for a list nobody can read."""
    path = known_path()
    return read_known(path) if path.exists() else KnownKeys()


def save_known(keys: KnownKeys) -> None:
    """Write the list of known keys. Raises FormatError."""
    make_home()
    make_folder(keys_folder(), 0o700)
    write_whole(known_path(), to_toml(keys), mode=0o600)


@dataclass(frozen=True)
class KeyState:
    """What is known of a person's own key before it signs: there or not, locked, what it is called, what is wrong."""

    name: str
    public: PublicKey | None = None
    locked: bool = False
    fault: YarvicError | None = None


def key_state(name: str, today: date) -> KeyState:
    """The state of a person's own key."""
    path = key_path(keys_folder(), name)
    if not path.exists():
        return KeyState(name)
    try:
        check_rights(path)
        public, locked = read_public_key(public_path(path)), is_locked(path)
        usable(public, known_keys(), today)
        return KeyState(name, public, locked)
    except YarvicError as error:
        return KeyState(name, fault=error)


def usable(public: PublicKey, known: KnownKeys, today: date) -> None:
    """Raise ReleaseError for a key that must not sign any more."""
    entry = known.find(public.key)
    if entry is not None and entry.revoked is not None:
        raise ReleaseError(
            f"the key {public.fingerprint} was revoked on {entry.revoked}",
            concerns=public.name,
            remedy="Make a new key (Keys, Make a new one). What this one signed before is judged by those who know it.",
        )
    if today.isoformat() > public.until:
        raise ReleaseError(
            f"the key {public.fingerprint} ended on {public.until}",
            concerns=public.name,
            remedy="Make a new key (Keys, Make a new one). What this one signed in its time still holds.",
        )


def signing_key(name: str, passphrase: str = "", *, today: date | None = None) -> SigningKey:
    """A person's own key, made at first use. Raises ReleaseError, FormatError."""
    today = today or date.today()
    make_home()
    path = key_path(keys_folder(), name)
    key = read_key(path, passphrase) if path.exists() else make_key(keys_folder(), name, today, passphrase)
    known = known_keys()
    usable(key.public, known, today)
    if known.find(key.public.key) is None:
        save_known(known.added(key.public, today, own=True))
    return key


def new_key(name: str, passphrase: str = "", *, today: date | None = None) -> SigningKey:
    """Make a person another key; the one before is set aside, and stays known for what it signed."""
    make_home()
    set_aside(keys_folder(), name)
    return signing_key(name, passphrase, today=today)


def add_key(path: Path, expected: str, *, today: date | None = None) -> PublicKey:
    """Take a key into the list, once its owner has confirmed its fingerprint. Raises FormatError, ReleaseError."""
    found = read_public_key(path)
    if _bare(expected) != _bare(found.fingerprint):
        raise ReleaseError(
            "the fingerprint is another one than was confirmed",
            concerns=str(path),
            remedy="Compare it once more with its owner, by voice. Nothing was added.",
        )
    save_known(known_keys().added(found, today or date.today()))
    return found


def said_of_name(key: PublicKey, known: KnownKeys) -> list[str]:
    """What is to be said of a key's name beside the names of the other keys that are known, in sentences."""
    return as_said(key.name, [k.name for k in known.keys if k.key != key.key])


def revoke_key(fingerprint: str, reason: str, *, today: date | None = None) -> None:
    """Mark a key as revoked from today on. Raises ReleaseError where it is not there, or without reason."""
    known = known_keys()
    entry = next((k for k in known.keys if _bare(k.fingerprint) == _bare(fingerprint)), None)
    save_known(known.revoked(entry.key if entry is not None else "", reason, today or date.today()))


def write_public(name: str, path: Path) -> PublicKey:
    """Write a person's public key to a file for others; the key is made at first use. Raises FormatError."""
    own = key_path(keys_folder(), name)
    public = read_public_key(public_path(own)) if own.exists() else signing_key(name).public
    write_new(path, to_toml(public))
    return public


def _bare(fingerprint: str) -> str:
    return "".join(c for c in fingerprint.upper() if c.isalnum())


def demo_key() -> SigningKey:
    """The key of the invented shop that the demo jobs are signed with. Everybody has it: it proves nothing."""
    seed = hashlib.sha256(b"the demo of Fennel Row, a key that everybody has").digest()
    return of_seed(seed, DEMO_SIGNER, date(2024, 1, 1))
