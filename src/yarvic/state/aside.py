"""Work that cannot ask whether it was cancelled: it runs aside, and is left to itself when it was."""

from __future__ import annotations

import threading
from collections.abc import Callable
from concurrent.futures import Future
from typing import TypeVar

from yarvic.core.errors import Cancelled
from yarvic.state.work import Asked

T = TypeVar("T")
LOOKS_EVERY_S = 0.05


def aside(compute: Callable[[], T], cancelled: Asked) -> T:
    """What `compute` gives or raises. Raises Cancelled as soon as that is asked; then its answer is dropped."""
    answer: Future[T] = Future()

    def run() -> None:
        try:
            answer.set_result(compute())
        except BaseException as error:  # noqa: BLE001 - raised again where the answer is waited for
            answer.set_exception(error)

    # A daemon: the window may close while it goes on.
    thread = threading.Thread(target=run, daemon=True, name="aside")
    thread.start()
    while thread.is_alive():
        thread.join(LOOKS_EVERY_S)
        if cancelled():
            raise Cancelled("it was cancelled", remedy="Nothing was changed.")
    return answer.result()
