"""Work that runs aside."""

import threading

import pytest

from yarvic.core.errors import Cancelled, JobError
from yarvic.state.aside import aside


def test_it_gives_what_it_computes_and_raises_what_it_raises():
    assert aside(lambda: 42, lambda: False) == 42
    with pytest.raises(JobError, match="why"):
        aside(lambda: (_ for _ in ()).throw(JobError("why")), lambda: False)


def test_a_cancel_does_not_wait_for_it():
    over, ended = threading.Event(), threading.Event()

    def work():
        over.wait(60.0)
        ended.set()

    with pytest.raises(Cancelled):
        aside(work, lambda: True)
    assert not ended.is_set()
    over.set()
    assert ended.wait(60.0)
