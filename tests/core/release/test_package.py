"""The package and its signature: one form, every changed bit found, and the signer told from the name that is claimed."""

import io
import json
import os
import stat
import zipfile
from datetime import date

import pytest

from yarvic.bench.vehicles import stock_image
from yarvic.core.calibration.image import image_id
from yarvic.core.errors import FormatError, ReleaseError, YarvicError
from yarvic.core.formats.images import image_to_hex
from yarvic.core.reading import DEFECTS
from yarvic.core.release import archive, keys
from yarvic.core.release.keys import KnownKeys, fingerprint, make_key, of_seed, read_key, signed_by
from yarvic.core.release.package import MANIFEST, SIGNATURE, build_package, verify_package, whose, write_package

MADE = date(2026, 1, 2)
KEY = of_seed(bytes(range(32)), "Rowan Sedge", MADE)
OTHER = of_seed(bytes(range(1, 33)), "Rowan Sedge", MADE)


@pytest.fixture(autouse=True)
def nothing_unforeseen():
    DEFECTS.clear()
    yield
    assert not list(DEFECTS)


@pytest.fixture(scope="module")
def stock():
    """The smallest image that ships: packages are verified thousands of times here."""
    return stock_image("fieldfare")


@pytest.fixture
def facts(stock):
    return {
        "job": "Ptarmigan", "vehicle": "Ptarmigan", "family": "ptarmigan-14", "revision": "A1", "reason": "why",
        "build": "1: as received", "author": "who", "signed_by": "Rowan Sedge", "time": "2026-03-01T10:00:00+00:00",
        "history": {"lines": 3, "sha256": "ab" * 32}, "image_sha256": image_id(stock), "image_size": len(stock),
        "simulated": True, "waivers": [],
    }  # fmt: skip


@pytest.fixture
def files(stock):
    return {
        "image.hex": image_to_hex(stock).encode(), "maps/ron-95.csv": b"a,b\n", "evidence.json": b"{}\n",
        "customer-sheet.pdf": b"%PDF-1.4\n",
    }  # fmt: skip


@pytest.fixture
def package(tmp_path, files, facts):
    path = tmp_path / "a.zip"
    write_package(path, build_package(files, facts, KEY).data)
    return path


def signer(v, known=None):
    return whose(v.signature, v.manifest, known or KnownKeys())


def known(*public, today=MADE):
    found = KnownKeys()
    for each in public:
        found = found.added(each, today)
    return found


# -- Ed25519

# RFC 8032, section 7.1, TEST 1, 2, 3 and 1024 left out for its length: secret key, public key, message, signature.
RFC_8032 = [
    (
        "9d61b19deffd5a60ba844af492ec2cc44449c5697b326919703bac031cae7f60",
        "d75a980182b10ab7d54bfed3c964073a0ee172f3daa62325af021a68f707511a",
        "",
        "e5564300c360ac729086e2cc806e828a84877f1eb8e5d974d873e065224901555fb8821590a33bacc61e39701cf9b46bd25bf5f0595bbe"
        "24655141438e7a100b",
    ),
    (
        "4ccd089b28ff96da9db6c346ec114e0f5b8a319f35aba624da8cf6ed4fb8a6fb",
        "3d4017c3e843895a92b70aa74d1b7ebc9c982ccf2ec4968cc0cd55f12af4660c",
        "72",
        "92a009a9f0d4cab8720e820b5f642540a2b27b5416503f8fb3762223ebdb69da085ac1e43e15996e458f3613d0f11d8c387b2eaeb4302a"
        "eeb00d291612bb0c00",
    ),
    (
        "c5aa8df43f9f837bedb7442f31dcb7b166d38535076f094b85ce3a2e0b4458f7",
        "fc51cd8e6218a1a38da47ed00230f0580816ed13ba3303ac5deb911548908025",
        "af82",
        "6291d657deec24024827e69c3abe01a30ce548a284743a445e3680d7db5ac3ac18ff9b538d16f290ae67f760984dc6594a7c15e9716ed2"
        "8dc027beceea1ec40a",
    ),
]


@pytest.mark.parametrize(("secret", "public", "message", "signature"), RFC_8032)
def test_the_vectors_of_rfc_8032(secret, public, message, signature):
    key = of_seed(bytes.fromhex(secret), "RFC 8032", MADE)
    said = bytes.fromhex(message)
    assert key.public.key == public and key.sign(said) == signature and signed_by(public, signature, said)
    for at in (0, 31, 32, 63):
        flipped = bytearray.fromhex(signature)
        flipped[at] ^= 1
        assert not signed_by(public, flipped.hex(), said)
    assert not signed_by(public, signature, said + b"\0")
    # S + L is refused, or one signature would have two forms (RFC 8032, 5.1.7).
    order = 2**252 + 27742317777372353535851937790883648493
    s = int.from_bytes(bytes.fromhex(signature)[32:], "little") + order
    assert not signed_by(public, signature[:64] + s.to_bytes(32, "little").hex(), said)


def test_a_fingerprint_by_hand():
    import base64
    import hashlib

    digest = hashlib.sha256(bytes.fromhex(KEY.public.key)).digest()
    assert fingerprint(KEY.public.key).replace("-", "") == base64.b32encode(digest[:10]).decode()
    assert fingerprint(KEY.public.key) != fingerprint(OTHER.public.key)


# -- what is said of a package


def test_a_package_is_whole_by_a_key_and_known_or_not(package):
    v = verify_package(package)
    assert v.intact and v.faults == () and v.signature.state == "good"
    assert v.manifest.signed_by == "Rowan Sedge" and v.manifest.simulated
    unknown = signer(v)
    assert unknown.state == "unknown" and not unknown.trusted and KEY.public.fingerprint in unknown.sentence
    found = signer(v, known(KEY.public))
    assert found.state == "known" and found.trusted and "known here since 2026-01-02" in found.sentence


def test_a_manifest_made_anew_is_not_signed_by_its_victim(tmp_path, files, facts):
    """Whoever writes a name into a manifest has not its key."""
    list_here = known(KEY.public)
    path = tmp_path / "forged.zip"
    write_package(path, build_package(files, facts, None).data)
    v = verify_package(path)
    assert v.intact and signer(v, list_here).state == "unsigned"
    assert "nothing proves it" in signer(v, list_here).sentence
    path.unlink()
    write_package(path, build_package(files, facts, OTHER).data)
    v = verify_package(path)
    assert v.intact and signer(v, list_here).state == "unknown" and "compare the fingerprint" in signer(v).sentence
    # The victim's key under another's signature.
    forged = build_package(files, facts, OTHER)
    text = forged.manifest.replace(OTHER.public.key, KEY.public.key).encode()
    members, _ = archive.unpack(path)
    path.write_bytes(archive.pack({**members, MANIFEST: text}))
    v = verify_package(path)
    assert not v.intact and signer(v, list_here).state == "does not fit"


def test_a_key_that_was_revoked_or_has_ended(package):
    v = verify_package(package)
    base = known(KEY.public)
    gone = base.revoked(KEY.public.key, "stolen with the laptop", date(2026, 2, 1))
    said = signer(v, gone)
    assert said.state == "revoked" and not said.trusted
    assert "stolen with the laptop" in said.sentence and "on that day or later" in said.sentence
    later = base.revoked(KEY.public.key, "left the shop", date(2026, 9, 1))
    assert "before that, by its own clock" in signer(v, later).sentence
    # What was revoked does not come back by being added once more.
    assert gone.added(KEY.public, MADE).find(KEY.public.key).revoked == "2026-02-01"
    ended = KnownKeys(keys=(base.keys[0].changed(until="2026-02-01"),))
    assert signer(v, ended).state == "ended" and "after the key had ended" in signer(v, ended).sentence
    for bad, why in ((KEY.public.key, " "), ("00" * 32, "lost")):
        with pytest.raises(ReleaseError):
            base.revoked(bad, why, MADE)


def test_the_same_content_gives_the_same_bytes(files, facts):
    one = build_package(files, facts, KEY)
    again = build_package(dict(reversed(list(files.items()))), dict(facts), KEY)
    assert one.data == again.data and one.sha256 == again.sha256
    # And any zip reader finds in it what was packed.
    with zipfile.ZipFile(io.BytesIO(one.data)) as there:
        assert there.testzip() is None
        assert {n: there.read(n) for n in files} == files
        assert there.namelist()[:2] == [MANIFEST, SIGNATURE]


def test_a_package_is_never_replaced(package):
    with pytest.raises(FormatError, match="there already"):
        write_package(package, b"x")


# -- changes


def repacked(path, change):
    """The package in its one form again, with its members changed."""
    members, _ = archive.unpack(path)
    change(members)
    path.write_bytes(archive.pack(members))
    return path


@pytest.mark.parametrize(
    ("change", "fault"),
    [
        (lambda m: m.update({"maps/ron-95.csv": b"a,c\n"}), "maps/ron-95.csv is not what the manifest names"),
        (lambda m: m.pop("evidence.json"), "evidence.json is missing"),
        (lambda m: m.update({"extra.txt": b"hello"}), "extra.txt does not belong"),
        (lambda m: m.pop("image.hex"), "image.hex is missing"),
        (lambda m: m.pop("customer-sheet.pdf"), "customer-sheet.pdf is missing"),
        (lambda m: m.update({"image.hex": m["image.hex"].replace(b"FF", b"FE", 1)}), "image.hex"),
        (lambda m: m.pop(SIGNATURE), "its signature was removed"),
        (lambda m: m.update({SIGNATURE: b"00" * 64 + b"\n"}), "does not fit"),
        (lambda m: m.update({SIGNATURE: m[SIGNATURE].upper()}), "does not fit"),
        (lambda m: m.update({SIGNATURE: m[SIGNATURE] + b"\n"}), "does not fit"),
        (lambda m: m.update({SIGNATURE: b"\xff"}), "does not fit"),
        (lambda m: m.update({MANIFEST: m[MANIFEST].replace(b'"why"', b'"who"')}), "does not fit"),
        (lambda m: m.update({MANIFEST: m[MANIFEST] + b" "}), "not written as Yarvic writes it"),
    ],
)
def test_every_change_is_found(package, change, fault):
    v = verify_package(repacked(package, change))
    assert not v.intact
    assert any(fault in f for f in v.faults), v.faults


def test_one_bit_anywhere_is_found(package):
    """In the signature, the key, the manifest, a file, a header of the archive: told from an unknown signer."""
    data = package.read_bytes()
    members, _ = archive.unpack(package)
    image = data.index(members["image.hex"][:64])
    edges = [*range(0, image), *range(len(data) - 600, len(data)), *range(image, len(data) - 600, 4_009)]
    said = set()
    for at in edges:
        changed = bytearray(data)
        changed[at] ^= 1 << (at * 5 % 8)
        package.write_bytes(changed)
        try:
            v = verify_package(package)
        except YarvicError:
            continue
        assert not v.intact, at
        said.add(signer(v, known(KEY.public)).state)
    assert "unknown" not in said and {"does not fit", "known"} <= said


def zipped(path, entries, **how):
    with zipfile.ZipFile(path, "w", **how) as there:
        for name, content in entries:
            there.writestr(name, content)


def members_of(path):
    return list(archive.unpack(path)[0].items())


@pytest.mark.parametrize(
    "kind", ["deflated", "lzma", "dated", "before", "between", "behind", "comment", "twice", "case"]
)
def test_another_form_is_no_package_or_not_whole(package, kind):
    members = members_of(package)
    if kind in ("deflated", "lzma"):
        zipped(package, members, compression={"deflated": zipfile.ZIP_DEFLATED, "lzma": zipfile.ZIP_LZMA}[kind])
    elif kind == "dated":
        zipped(package, members)
    elif kind == "before":
        package.write_bytes(b"#!/bin/sh\n" + package.read_bytes())
    elif kind == "between":
        data = package.read_bytes()
        at = data.index(b"PK\1\2")
        package.write_bytes(data[:at] + b"hidden" + data[at:])
    elif kind == "behind":
        package.write_bytes(package.read_bytes() + b"hidden")
    elif kind == "comment":
        with zipfile.ZipFile(package, "a") as there:
            there.comment = b"hidden"
    else:
        name = {"twice": "evidence.json", "case": "Evidence.json"}[kind]
        with pytest.warns(UserWarning) if kind == "twice" else __import__("contextlib").nullcontext():
            zipped(package, [*members, (name, b"{}")])
    try:
        v = verify_package(package)
    except ReleaseError as error:
        assert error.remedy
        return
    assert not v.intact


@pytest.mark.parametrize(
    "name",
    ["../up", "/root", "a\\b", "A", "a/../b", "a//b", "a/b/c", ".hidden", "a\n", "a\0", "é", "-x", "x" * 200, ""],
)
def test_only_plain_names(name, files, facts):
    assert not archive.is_plain(name)
    with pytest.raises(ReleaseError):
        build_package({**files, name: b"x"}, facts, KEY)


@pytest.mark.parametrize(
    "content", [b"", b"PK", b"hello" * 100, b"PK\x03\x04" + b"\0" * 100, b"PK\x05\x06" + b"\0" * 18]
)
def test_what_is_no_package(tmp_path, content):
    path = tmp_path / "a.zip"
    path.write_bytes(content)
    with pytest.raises(ReleaseError) as caught:
        verify_package(path)
    assert caught.value.remedy
    with pytest.raises(FormatError, match="is not there"):
        verify_package(tmp_path / "none.zip")


def test_sizes_that_are_claimed_are_not_believed(package):
    data = bytearray(package.read_bytes())
    for at in (18, 22):
        data[at : at + 4] = (2_000_000_000).to_bytes(4, "little")
    package.write_bytes(data)
    with pytest.raises(ReleaseError):
        verify_package(package)


@pytest.mark.parametrize(
    "text",
    [
        b"{}", b"null", b"[" * 100_000, b'{"kind": "x"}', b"\xff", b'{"a": 1, "a": 2}', b"1e999", b"9" * 5000,
        b'{"kind": "yarvic release 2", "files": {"\x1b[2J": 1}}', b" " * 2_000_000,
    ],
)  # fmt: skip
def test_a_manifest_that_cannot_be(package, text):
    with pytest.raises(ReleaseError) as caught:
        verify_package(repacked(package, lambda m: m.update({MANIFEST: text})))
    assert "\x1b" not in str(caught.value) and caught.value.remedy
    with pytest.raises(ReleaseError, match="no manifest"):
        verify_package(repacked(package, lambda m: m.pop(MANIFEST)))


def test_another_image_under_a_mended_manifest_is_found(package, files, facts):
    facts["image_sha256"] = "00" * 32
    package.unlink()
    write_package(package, build_package(files, facts, KEY).data)
    assert "another image" in verify_package(package).faults[0]


def test_what_cannot_be_released_is_said(files, facts):
    with pytest.raises(ReleaseError, match="time"):
        build_package(files, {**facts, "time": "x" * 5000}, KEY)
    with pytest.raises(ReleaseError, match="so much"):
        build_package({f"f{i}": b"" for i in range(63)}, facts, KEY)


# -- keys as files


def test_a_key_is_its_owners_only_and_comes_back(tmp_path):
    folder = tmp_path / "keys"
    made = make_key(folder, "Rowan Sedge", MADE)
    path = keys.key_path(folder, "Rowan Sedge")
    assert stat.S_IMODE(folder.stat().st_mode) == 0o700 and stat.S_IMODE(path.stat().st_mode) == 0o600
    assert read_key(path).sign(b"x") == made.sign(b"x") and read_key(path).public == made.public
    with pytest.raises(FormatError, match="there already"):
        make_key(folder, "Rowan Sedge", MADE)
    os.chmod(path, 0o644)
    with pytest.raises(ReleaseError, match="may be read by others") as caught:
        read_key(path)
    assert "chmod 600" in caught.value.remedy


def test_a_passphrase_locks_a_key(tmp_path):
    make_key(tmp_path, "Wren", MADE, "three words here")
    path = keys.key_path(tmp_path, "Wren")
    assert keys.is_locked(path) and read_key(path, "three words here").public.name == "Wren"
    for wrong, words in (("", "locked by a passphrase"), ("another", "passphrase is wrong")):
        with pytest.raises(ReleaseError, match=words):
            read_key(path, wrong)
    make_key(tmp_path, "Lark", MADE)
    with pytest.raises(ReleaseError, match="has no passphrase"):
        read_key(keys.key_path(tmp_path, "Lark"), "needless")


def test_halves_that_do_not_belong_together_and_damaged_ones(tmp_path):
    for name in ("Wren", "Lark"):
        make_key(tmp_path, name, MADE)
    wren, lark = (keys.key_path(tmp_path, n) for n in ("Wren", "Lark"))
    whole = wren.read_bytes()
    wren.write_bytes(lark.read_bytes())
    with pytest.raises(ReleaseError, match="do not belong together"):
        read_key(wren)
    for damaged in (b"", b"hello", whole[:60], whole.replace(b"PRIVATE", b"PUBLIC"), b"\0" * 1000):
        wren.write_bytes(damaged)
        with pytest.raises(ReleaseError):
            read_key(wren)
    # A key of another kind.
    from cryptography.hazmat.primitives import serialization
    from cryptography.hazmat.primitives.asymmetric.x25519 import X25519PrivateKey

    other = X25519PrivateKey.generate().private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    wren.write_bytes(other)
    with pytest.raises(ReleaseError, match="another kind"):
        read_key(wren)


@pytest.mark.parametrize(
    "change",
    [
        {"key": "zz" * 32}, {"key": "ab"}, {"name": ""}, {"name": "x" * 100}, {"made": "2026-13-01"},
        {"until": "2020-01-01"}, {"format": "other"}, {"more": 1}, {"name": 5},
    ],
)  # fmt: skip
def test_public_keys_that_cannot_be(tmp_path, change):
    import tomli_w

    path = tmp_path / "a.toml"
    path.write_text(tomli_w.dumps({**KEY.public.model_dump(), **change}))
    with pytest.raises(FormatError) as caught:
        keys.read_public_key(path)
    assert caught.value.remedy and "a.toml" in str(caught.value)


def test_a_list_of_keys_comes_back(tmp_path):
    path = tmp_path / "known.toml"
    found = known(KEY.public, OTHER.public).revoked(OTHER.public.key, "lost", MADE)
    path.write_bytes(keys.to_toml(found))
    assert keys.read_known(path) == found
    path.write_bytes(keys.to_toml(found) + path.read_bytes().split(b"[[keys]]")[1].join([b"[[keys]]", b""]))
    with pytest.raises(FormatError, match="there twice"):
        keys.read_known(path)


def test_signing_is_documented_as_it_is_done(package):
    """docs/security.md: the signature is over the kind, a zero, and the manifest's bytes."""
    members, _ = archive.unpack(package)
    text, signature = members[MANIFEST], members[SIGNATURE].decode().strip()
    assert signed_by(json.loads(text)["key"], signature, b"yarvic release 2\0" + text)


# -- a job with its releases


def test_a_release_in_a_job_is_held_against_its_manifest(tmp_path, facts, files):
    """Whoever writes job and history anew, and has not the key, cannot bring record and manifest together."""
    import sqlite3

    from yarvic.bench.vehicles import layout_text
    from yarvic.core.job import history
    from yarvic.core.job.store import Job
    from yarvic.core.release.whole_job import verify_job
    from yarvic.demo.fieldfare import FIELDFARE

    path = tmp_path / "a.yarvic"
    job = Job.create(path, FIELDFARE.sheet(), layout_text("fieldfare"), stock_image("fieldfare"), author="x")
    lines, head = job.head()
    now = {"revision": "Stock", "history": {"lines": lines, "sha256": head}, "image_sha256": job.revisions()[0].image}
    built = build_package(files, {**facts, **now}, KEY)
    job.record_release(1, "Rowan Sedge", built.sha256, "a.zip", built.manifest, built.signature)
    job.close()
    v = verify_job(path, known(KEY.public))
    assert v.intact and v.releases[0].revision == "Stock" and v.releases[0].signer.state == "known"
    for change, fault in (
        ("UPDATE release SET name = 'Somebody'", "another revision or signer"),
        ("UPDATE release SET manifest_sha256 = 'ab'", "not the one that was recorded"),
        ("UPDATE release SET manifest = replace(manifest, 'why', 'who')", "does not fit its manifest"),
        ("UPDATE journal SET sentence = 'x' WHERE id = 1", "not the one that was signed"),
    ):
        other = tmp_path / "other.yarvic"
        other.write_bytes(path.read_bytes())
        connection = sqlite3.connect(other, isolation_level=None)
        connection.execute(change)
        # The whole chain anew, as anybody could who reads docs/security.md.
        connection.execute("DELETE FROM journal WHERE subject = 'release'")
        history.write_line(connection, "t", "release", "again", [("release", "1")])
        previous = ""
        for row in connection.execute(
            "SELECT id, time, subject, sentence, about FROM journal ORDER BY id"
        ).fetchall():
            previous = history.link(previous, *row)
            connection.execute("UPDATE journal SET hash = ? WHERE id = ?", (previous, row[0]))
        connection.close()
        found = verify_job(other, known(KEY.public))
        assert found.history.faults == () and any(fault in f for f in found.faults), (change, found.faults)
