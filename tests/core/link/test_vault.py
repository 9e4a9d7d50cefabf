"""The vault keeps every image by its content, whole or not at all, for two windows at once; the journal of a write too."""

import os
import random
import signal
import threading

import pytest

from yarvic.core.calibration.image import image_id
from yarvic.core.errors import LinkError, YarvicError
from yarvic.core.link.journal import Journal, begun_now, unfinished
from yarvic.core.link.kept import kept
from yarvic.core.link.vault import Vault


@pytest.fixture
def vault(tmp_path):
    return Vault(tmp_path / "vault")


def test_what_is_put_in_comes_out_and_is_listed(vault):
    first = vault.put(b"stock", "read", serial="S1", family="F", vehicle="buggy")
    second = vault.put(b"new", "to be written", serial="S1", revision="A1")
    third = vault.put(b"new", "read", serial="S1")
    assert vault.get(first.sha) == b"stock"
    assert [(s.sha, s.how, s.stock) for s in vault.seen()] == [
        (image_id(b"stock"), "read", True),
        (image_id(b"new"), "to be written", False),
        (image_id(b"new"), "read", False),
    ]
    assert second.sha == third.sha and second.revision == "A1" and first.vehicle == "buggy"
    assert vault.damaged(thorough=True) == []
    # What was made here is nobody's stock, however early it is read; what comes later may be.
    assert not vault.put(b"ours", "read", made_here={image_id(b"ours")}, serial="S3").stock
    assert vault.put(b"came with it", "read", serial="S3").stock
    # Another unit has a stock image of its own; an unknown one has none.
    assert vault.put(b"other", "read", serial="S2").stock
    assert not vault.put(b"who", "read").stock


def test_damage_is_found_by_size_and_by_content(vault):
    kept = [vault.put(data, "read", serial=str(n)) for n, data in enumerate((b"aaaa", b"bbbb", b"cccc"))]
    paths = [vault.folder / "images" / f"{s.sha}.bin" for s in kept]
    paths[0].unlink()
    paths[1].write_bytes(b"bb")
    paths[2].write_bytes(b"cccd")
    assert len(vault.damaged()) == 2
    assert [d.split()[-1] for d in vault.damaged(thorough=True)] == ["missing", "4", "damaged"]
    for sighting in kept:
        with pytest.raises(YarvicError) as told:
            vault.get(sighting.sha)
        assert told.value.remedy
    # What is there again is whole again.
    vault.put(b"bbbb", "read", serial="1")
    assert vault.get(kept[1].sha) == b"bbbb"


def test_lines_that_a_crash_cut_off_are_said_and_lose_no_other(vault):
    vault.put(b"one", "read", serial="1")
    with (vault.folder / "seen.jsonl").open("ab") as file:
        file.write(b'{"sha": "12')
    vault.put(b"two", "read", serial="2")
    assert [s.serial for s in vault.seen()] == ["1", "2"]
    assert vault.damaged() == ["line 2 of seen.jsonl is no sighting"]


def test_two_windows_lose_nothing_of_each_other(vault):
    def put(window):
        own = Vault(vault.folder)
        for n in range(30):
            own.put(f"{window} {n % 10}".encode(), "read", serial=window)

    threads = [threading.Thread(target=put, args=(str(n),)) for n in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    seen = vault.seen()
    assert len(seen) == 120
    assert {s.serial for s in seen if s.stock} == {"0", "1", "2", "3"}
    assert sum(s.stock for s in seen) == 4
    assert vault.damaged(thorough=True) == []


def test_killed_while_putting_leaves_whole_images_only(vault):
    child = os.fork()
    if child == 0:
        try:
            n, noise = 0, random.Random(3)
            while True:
                Vault(vault.folder).put(noise.randbytes(50_000), "read", serial=str(n := n + 1))
        finally:
            os._exit(0)
    while len(vault.seen()) < 5:
        pass
    os.kill(child, signal.SIGKILL)
    os.waitpid(child, 0)
    assert vault.damaged(thorough=True) in ([], [f"line {len(vault.seen()) + 1} of seen.jsonl is no sighting"])


def test_a_vault_without_room_and_names_that_are_none(tmp_path, vault):
    (tmp_path / "file").write_bytes(b"")
    with pytest.raises(LinkError, match="could not be kept"):
        Vault(tmp_path / "file").put(b"x", "read")
    assert Vault(tmp_path / "file").seen() == [] and not vault.folder.exists()
    vault.folder.mkdir()
    (vault.folder / "images").write_bytes(b"")
    with pytest.raises(LinkError, match="could not be kept"):
        vault.put(b"x", "read")
    assert vault.seen() == []
    for name in ("../../etc/passwd", "", "x" * 64):
        with pytest.raises(LinkError, match="names no image"):
            vault.get(name)


def test_an_image_is_removed_unless_it_is_stock_or_needed(vault):
    stock = vault.put(b"stock", "read", serial="S1", family="F")
    new = vault.put(b"new", "to be written", serial="S1", family="F", revision="A1", vehicle="Ptarmigan")
    with pytest.raises(LinkError, match="stock image"):
        vault.remove(stock.sha)
    about = {"serial": "S1", "family": "F", "image": new.sha, "backup": stock.sha, "sectors": (0,)}
    journal = Journal.create(vault.folder / "journals", begun_now(**about))
    with pytest.raises(LinkError, match="not ended"):
        vault.remove(new.sha)
    journal.add("end", "written")
    journal.close()
    vault.remove(new.sha)
    assert [k.sha for k in kept(vault.seen())] == [stock.sha] and vault.damaged(thorough=True) == []
    with pytest.raises(YarvicError):
        vault.get(new.sha)
    # Seen again, it is there again.
    vault.put(b"new", "read", serial="S1", family="F")
    assert [k.sha for k in kept(vault.seen())] == [new.sha, stock.sha] and vault.get(new.sha) == b"new"


def test_images_are_found_by_what_is_known_of_them(vault):
    stock = vault.put(b"stock", "read", serial="S1", family="wether-32", vehicle="Wether", unit="unit S1")
    new = vault.put(b"new", "to be written", serial="S2", family="ptarmigan-14", vehicle="Ptarmigan", revision="A1")
    vault.put(b"stock", "read", serial="S3", family="wether-32", vehicle="Hut")
    there = {k.sha: k for k in kept(vault.seen())}
    assert list(there) == [stock.sha, new.sha] and there[stock.sha].all_of("vehicle") == "Wether, Hut"
    for words, found in (
        (["wether"], [stock.sha]), (["hut", "S1"], [stock.sha]), (["a1"], [new.sha]), (["PTARMIGAN", "a2"], []),
        ([new.time[:10]], [stock.sha, new.sha]), ([new.sha[:8]], [new.sha]), (["stock"], [stock.sha]), ([], list(there)),
    ):  # fmt: skip
        assert [s for s, k in there.items() if k.fits(words)] == found, words


# -- the journal


def begun(**more):
    return begun_now(
        **{"serial": "S1", "family": "F", "image": "a" * 64, "backup": "b" * 64, "sectors": (0, 3, 1), **more}
    )


def test_a_journal_reads_back_as_it_was_written(tmp_path):
    journal = Journal.create(tmp_path, begun(codes=("P0300",)))
    journal.add("before", "erase", 3)
    journal.add("after", "erase", 3)
    journal.add("before", "write", 1)
    found = Journal.read(journal.path)
    assert found.begun == journal.begun and found.entries == journal.entries
    assert (found.touched, found.ended) == ((1, 3), None)
    assert [j.path for j in unfinished(tmp_path)] == [journal.path]
    found.go_on()
    found.add("end", "restored")
    assert Journal.read(journal.path).ended == "restored"
    assert unfinished(tmp_path) == []
    found.close()
    with pytest.raises(LinkError, match="cannot be written"):
        found.add("before", "x")


def test_each_step_is_on_the_disk_before_the_next(tmp_path):
    """Killed between any two steps: all that were told are there."""
    ready, said = os.pipe()
    child = os.fork()
    if child == 0:
        try:
            os.close(ready)
            journal = Journal.create(tmp_path, begun())
            for n in range(100_000):
                journal.add("before", "write", n)
                os.write(said, b".")
        finally:
            os._exit(0)
    os.close(said)
    told = len(os.read(ready, 37)) + len(os.read(ready, 20))
    os.kill(child, signal.SIGKILL)
    os.waitpid(child, 0)
    while more := os.read(ready, 4096):
        told += len(more)
    (journal,) = unfinished(tmp_path)
    assert len(journal.entries) in (told, told + 1)


@pytest.mark.parametrize("cut", [1, 10, 40])
def test_a_step_that_was_cut_off_is_passed_over(tmp_path, cut):
    journal = Journal.create(tmp_path, begun())
    journal.add("before", "write", 1)
    whole = journal._at
    journal.add("after", "write", 1)
    os.pwrite(journal._file, bytes(journal._at - whole - cut), whole + cut)
    found = Journal.read(journal.path)
    assert len(found.entries) == 1
    found.go_on()
    found.add("before", "verify")
    assert [e.step for e in Journal.read(journal.path).entries] == ["write", "verify"]


def test_its_room_is_taken_before_anything_is_done(tmp_path, monkeypatch):
    assert Journal.create(tmp_path, begun()).path.stat().st_size > 16_000

    def full(*args):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "posix_fallocate", full)
    before = sorted(tmp_path.iterdir())
    with pytest.raises(LinkError, match="No space left") as told:
        Journal.create(tmp_path, begun())
    assert "room" in told.value.remedy
    assert sorted(tmp_path.iterdir()) == before


@pytest.mark.parametrize("data", [b"", b"{}", b"\xff\xfe", b'{"serial": 1}\n', b"[" * 100_000])
def test_what_is_no_journal_is_said_and_passed_over(tmp_path, data):
    (tmp_path / "x.flash").write_bytes(data)
    with pytest.raises(LinkError, match="no journal"):
        Journal.read(tmp_path / "x.flash")
    assert unfinished(tmp_path) == []
