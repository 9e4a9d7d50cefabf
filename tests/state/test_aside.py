"""Work that runs aside."""

import time

import pytest

from yarvic.core.errors import Cancelled, JobError
from yarvic.state.aside import aside


def test_it_gives_what_it_computes_and_raises_what_it_raises():
    assert aside(lambda: 42, lambda: False) == 42
    with pytest.raises(JobError, match="why"):
        aside(lambda: (_ for _ in ()).throw(JobError("why")), lambda: False)


def test_a_cancel_does_not_wait_for_it():
    begun = time.monotonic()
    with pytest.raises(Cancelled):
        aside(lambda: time.sleep(30), lambda: True)
    assert time.monotonic() - begun < 10
