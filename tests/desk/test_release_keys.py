"""Keys and verification in the window; and no file that comes from outside is read on the window's own thread."""

import contextlib
import shutil
import sqlite3
import sys
import threading
from datetime import date
from pathlib import Path

import pytest
from asking import asked_to_sign
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog, QLabel

from yarvic.core.formats.images import image_to_hex
from yarvic.core.job.template import write_sheet
from yarvic.core.release.keys import key_path, of_seed, to_toml
from yarvic.core.release.witness import read_witness
from yarvic.desk.views.release.keys import KeysDialog
from yarvic.desk.views.release.verify import VerifyDialog
from yarvic.state.keys import keys_folder, known_keys
from yarvic.state.witnesses import noted_path

LINNET = of_seed(bytes(range(32)), "Linnet Ash", date(2026, 1, 1))


def asked(driver):
    """The open question before B1 is signed."""
    return asked_to_sign(driver)[1:]


def leave(driver, dialog):
    dialog.reject()
    driver.idle()
    driver.settle(50)


def test_a_key_is_made_at_the_first_signature_and_may_have_a_passphrase(driver):
    view, dialog = asked(driver)
    assert "has no key at this desk yet" in dialog.key_words.text()
    dialog.passphrase.setText("three words here")
    driver.click(dialog.sign)
    assert "passphrases differ" in dialog.fault.text() and not keys_folder().exists()
    dialog.again.setText("three words here")
    driver.click(dialog.sign)
    driver.idle()
    assert "B1 is released" in view.state.text()
    [own] = known_keys().keys
    assert own.own and own.name == "Rowan Sedge"
    view.verify(view.package_path())
    driver.idle()
    shown = view.findChild(VerifyDialog)
    words = " ".join(t.text() for t in shown.findChildren(QLabel))
    assert (
        "Whole: every file is what its manifest names." in words
        and own.fingerprint in words
        and "known here since" in words
    )
    leave(driver, shown)
    view.verify(driver.window.session.job.path)
    driver.idle()
    words = " ".join(t.text() for t in view.findChild(VerifyDialog).findChildren(QLabel))
    assert "lines in its journal" in words and ": Signed by key" in words and "key of the demo" in words
    job = driver.window.session.job
    lines = job.head()[0]
    # The release itself is the one line behind its own signature; and what it was is noted outside the job.
    assert f"Signed up to line {lines - 1} of {lines}: what follows is not covered." in words
    assert "Outside this file its history was noted once" in words
    (noted,) = read_witness(noted_path())
    assert (noted.start, noted.lines, noted.head) == (job.first_line(), *job.head())
    leave(driver, view.findChild(VerifyDialog))


def test_a_witness_file_is_chosen_takes_each_signature_and_misses_what_was_cut(driver, tmp_path, monkeypatch):
    s = driver.window.session
    driver.step(8)
    view = driver.window.view("release")
    view.show_keys()
    dialog = view.findChild(KeysDialog)
    driver.idle()
    other = tmp_path / "diary.txt"
    other.write_text("Dear diary")
    for path in (other, tmp_path / "elsewhere.txt"):
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, path=path, **k: (str(path), ""))
        driver.click(dialog.choose_witness)
        driver.idle()
        if path is other:
            assert "line of a witness file" in dialog.fault.text() and not s.settings.witness
    assert s.settings.witness == str(tmp_path / "elsewhere.txt") and "elsewhere.txt" in dialog.witness.text()
    leave(driver, dialog)
    _, dialog = asked(driver)
    driver.click(dialog.sign)
    driver.idle()
    (noted,) = read_witness(tmp_path / "elsewhere.txt")
    assert noted.lines == s.job.head()[0] and other.read_text() == "Dear diary"
    path = Path(shutil.copy(s.job.path, tmp_path / "cut.yarvic"))
    with contextlib.closing(sqlite3.connect(path)) as db, db:
        db.execute("DELETE FROM release WHERE revision_id = (SELECT max(revision_id) FROM release)")
        db.execute("DELETE FROM journal WHERE id = (SELECT max(id) FROM journal)")
    view.verify(path)
    driver.idle()
    words = " ".join(t.text() for t in view.findChild(VerifyDialog).findChildren(QLabel))
    assert "Not whole" in words and "lines were cut off" in words
    leave(driver, view.findChild(VerifyDialog))


def test_a_locked_key_asks_and_a_wrong_passphrase_signs_nothing(driver):
    from yarvic.state.keys import signing_key

    signing_key("Rowan Sedge", "right")
    view, dialog = asked(driver)
    assert dialog.passphrase.isVisible() and not dialog.again.isVisible()
    driver.click(dialog.sign)
    assert "enter its passphrase" in dialog.fault.text()
    dialog.passphrase.setText("wrong")
    driver.click(dialog.sign)
    driver.idle()
    assert "passphrase is wrong" in driver.window.notice.what.text()
    assert not view.package_path().exists() and len(driver.window.session.job.releases()) == 1
    view, dialog = asked(driver)
    dialog.passphrase.setText("right")
    driver.click(dialog.sign)
    driver.idle()
    assert view.package_path().exists()


@pytest.mark.parametrize("why", ["read by others", "revoked", "ended"])
def test_a_key_that_must_not_sign_is_said_before(driver, why):
    from yarvic.state.keys import revoke_key, signing_key

    made = signing_key("Rowan Sedge", today=date(2020, 1, 1) if why == "ended" else None)
    if why == "read by others":
        key_path(keys_folder(), "Rowan Sedge").chmod(0o644)
    elif why == "revoked":
        revoke_key(made.public.fingerprint, "lost")
    view, dialog = asked(driver)
    assert why in dialog.key_words.text() and not dialog.sign.isEnabled()
    leave(driver, dialog)
    if why == "read by others":
        return
    view.show_keys()
    driver.idle()
    keys = view.findChild(KeysDialog)
    driver.click(keys.renew)
    driver.click(keys.go)
    driver.idle()
    assert "new key of Rowan Sedge" in keys.said.text() and keys.table.rowCount() == 2
    leave(driver, keys)
    _, dialog = asked(driver)
    assert dialog.sign.isEnabled() and made.public.fingerprint not in dialog.key_words.text()


def test_keys_of_others_are_added_by_their_fingerprint_and_revoked(driver, tmp_path, monkeypatch):
    driver.step(8)
    view = driver.window.view("release")
    view.show_keys()
    driver.idle()
    keys = view.findChild(KeysDialog)
    assert "No key is known yet" in keys.said.text()
    theirs = tmp_path / "linnet.toml"
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(theirs), ""))
    theirs.write_text("hello")
    keys.ask_to_add()
    driver.idle()
    assert "not valid TOML" in keys.fault.text() and keys.strip.isHidden()
    theirs.write_bytes(to_toml(LINNET.public))
    keys.ask_to_add()
    driver.idle()
    # What the file says of itself proves nothing: its fingerprint is not shown beside the question.
    assert "Linnet Ash" in keys.asked.text() and LINNET.public.fingerprint not in keys.asked.text()
    keys.line.setText("AAAA-AAAA-AAAA-AAAA")
    driver.click(keys.go)
    driver.idle()
    assert "another one" in keys.fault.text() and keys.table.rowCount() == 0
    keys.line.setText(LINNET.public.fingerprint.lower())
    driver.key(Qt.Key.Key_Return)
    driver.click(keys.go)
    driver.idle()
    assert keys.table.rowCount() == 1 and keys.table.item(0, 0).text() == "Linnet Ash"
    assert not keys.revoke.isEnabled()
    keys.table.selectRow(0)
    driver.settle()
    driver.click(keys.revoke)
    driver.click(keys.go)
    driver.idle()
    assert "for a reason" in keys.fault.text()
    keys.line.setText("left the shop")
    driver.click(keys.go)
    driver.idle()
    assert "left the shop" in keys.table.item(0, 3).text()
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "me.toml"), ""))
    keys.ask_to_write()
    driver.idle()
    assert (tmp_path / "me.toml").exists() and keys.table.rowCount() == 2 and "Tell those" in keys.said.text()


@pytest.mark.parametrize("name", ["1.4/90", "../..", "a\\b", "ü° 💥", ".hidden", "x" * 80, "CON", "\u202eevil"])
def test_a_vehicles_name_is_not_a_path(driver, name):
    session = driver.window.session
    session.sheet.set_vehicle(name=name)
    view, dialog = asked(driver)
    path = view.package_path()
    assert path.parent == session.job.path.parent and "/" not in path.name and not path.name.startswith(".")
    before = set(path.parent.rglob("*"))
    driver.click(dialog.sign)
    driver.idle()
    own = {*keys_folder().rglob("*"), keys_folder(), keys_folder().parent}
    assert set(path.parent.rglob("*")) - before - own == {path}
    assert path.exists() and session.job.releases()[-1].package == path.name


def test_keys_that_are_closed_while_they_are_read(driver):
    from yarvic.desk.app import unexpected

    driver.step(8)
    view, before = driver.window.view("release"), len(unexpected().errors)
    for _ in range(5):
        view.show_keys()
        view.findChild(KeysDialog).reject()
    driver.idle()
    driver.settle(100)
    assert len(unexpected().errors) == before


# -- where files are read

_read: list[tuple[str, bool]] = []
_watched: list[str] = []


def _note(event, arguments):
    if _watched and event in ("open", "sqlite3.connect") and arguments and isinstance(arguments[0], str | bytes):
        name = arguments[0].decode(errors="replace") if isinstance(arguments[0], bytes) else arguments[0]
        if any(part in name for part in _watched):
            _read.append((name, threading.current_thread() is threading.main_thread()))


@pytest.fixture
def reads():
    """Notes every opening of a file whose name holds a word, and whether it was on the window's thread."""
    if not getattr(sys, "_yarvic_notes", False):
        sys.addaudithook(_note)  # there is no way to take one away again: it is silent unless something is watched
        sys._yarvic_notes = True
    _read.clear()
    yield _read
    _watched.clear()


def test_no_file_from_outside_is_read_on_the_windows_thread(driver, reads, tmp_path, demo_copy, monkeypatch, home):
    w, session = driver.window, driver.window.session
    image, sheet = tmp_path / "outside-image.hex", tmp_path / "outside-sheet.toml"
    image.write_text(image_to_hex(session.job.image(session.job.revisions()[0].image)))
    write_sheet(session.job.sheet, sheet)
    other = Path(shutil.copy(demo_copy("wether"), tmp_path / "outside-wether.yarvic"))
    key = tmp_path / "outside-key.toml"
    key.write_bytes(to_toml(LINNET.public))
    asked(driver)[1].accept()
    driver.idle()
    package = Path(shutil.copy(w.view("release").package_path(), tmp_path / "outside-package.zip"))
    chosen = {"path": image}
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(chosen["path"]), ""))
    _watched.extend(["outside-", "known.toml", ".key", "library.toml"])
    acts = [
        (image, w.ask_for_image), (sheet, w.view("job").ask_to_read), (package, w.view("release").ask_to_verify),
        (other, w.view("release").ask_to_verify), (other, w.ask_for_job), (sheet, w.view("plan").ratings._ask),
    ]  # fmt: skip
    for path, act in acts:
        chosen["path"] = path
        act()
        driver.idle()
        assert any(path.name in name for name, _ in reads), path.name
        for dialog in w.view("release").findChildren(VerifyDialog):
            leave(driver, dialog)
    view = w.view("release")
    view.show_keys()
    driver.idle()
    chosen["path"] = key
    view.findChild(KeysDialog).ask_to_add()
    driver.idle()
    assert session.job.path == other
    assert [name for name, on_window in reads if on_window] == []
