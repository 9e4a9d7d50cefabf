"""A folder that is watched: what appears is offered once it is whole, and dealt with once."""

import os
import time

import pytest

from yarvic.core.errors import JobError
from yarvic.state.watching import FolderWatch, entries


def test_offered_when_it_stopped_growing_and_once(tmp_path):
    (tmp_path / "old.csv").write_text("there before")
    watch = FolderWatch(tmp_path, time.time() + 0.01)
    time.sleep(0.05)
    log = tmp_path / "evening.csv"
    log.write_text("a")
    os.utime(log, (1.0, 1.0))  # copied from a card, with its own date
    assert watch.look(entries(tmp_path)) == []  # may still be written
    log.write_text("ab")
    assert watch.look(entries(tmp_path)) == []
    assert watch.look(entries(tmp_path)) == [log]
    log.write_text("abc")
    assert watch.look(entries(tmp_path)) == []
    assert watch.look(entries(tmp_path)) == [log]
    watch.dealt_with()
    assert watch.look(entries(tmp_path)) == [] and watch.look(entries(tmp_path)) == []
    (tmp_path / ".hidden").write_text("x")
    (tmp_path / "folder").mkdir()
    (tmp_path / "empty.csv").touch()
    assert watch.look(entries(tmp_path)) == [] and watch.look(entries(tmp_path)) == []


def test_what_goes_is_offered_no_more(tmp_path):
    watch = FolderWatch(tmp_path, 0.0)
    (tmp_path / "a.csv").write_text("a")
    watch.look(entries(tmp_path))
    assert len(watch.look(entries(tmp_path))) == 1
    (tmp_path / "a.csv").unlink()
    assert watch.look(entries(tmp_path)) == []


def test_a_folder_that_is_gone_is_said(tmp_path):
    with pytest.raises(JobError, match="cannot be read"):
        entries(tmp_path / "gone")
