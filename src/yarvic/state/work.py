"""Long work: a captured request goes out, a response comes back; nothing in between reads live state."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from typing import Any, Protocol, TypeVar

from yarvic.core.errors import Cancelled, YarvicError

T = TypeVar("T")
Asked = Callable[[], bool]
Heard = Callable[[object], None]


class Progress(Protocol):
    """Says how much is done and what is being done; `detail` is for who wants to know more than words."""

    def __call__(self, share: float, what: str, detail: object = None, /) -> None:
        """Report. What listens cannot raise into the work."""


Work = Callable[[Progress, Asked], T]


class Handle(Protocol):
    """Work under way."""

    title: str

    def cancel(self) -> None:
        """Ask it to stop; it stops at its next step and keeps nothing half-done."""


class Runner(Protocol):
    """Runs work beside the interface and brings the response back to it."""

    def run(
        self,
        title: str,
        work: Work[Any],
        done: Callable[[Any], None],
        failed: Callable[[YarvicError], None],
        *,
        visible: bool = True,
        heard: Heard | None = None,
    ) -> Handle:
        """Start work; exactly one of `done` and `failed` is called later, in the interface's thread.

        `heard` is given the details of its progress, in that thread too.
        """


class InlineRunner:
    """Runs work at once, in place: for the command line and for tests."""

    def run(
        self,
        title: str,
        work: Work[Any],
        done: Callable[[Any], None],
        failed: Callable[[YarvicError], None],
        *,
        visible: bool = True,
        heard: Heard | None = None,
    ) -> Handle:
        """Run to the end, then call back."""
        handle = InlineHandle(title)

        def progress(share: float, what: str, detail: object = None, /) -> None:
            if heard is not None and detail is not None:
                with contextlib.suppress(Exception):
                    heard(detail)

        try:
            result = work(progress, lambda: handle.asked)
        except YarvicError as error:
            failed(error)
        else:
            done(result)
        return handle


class InlineHandle:
    """Work that runs in place."""

    def __init__(self, title: str) -> None:
        self.title = title
        self.asked = False

    def cancel(self) -> None:
        """Ask it to stop."""
        self.asked = True


def is_cancel(error: YarvicError) -> bool:
    """Whether work ended because a person asked for it."""
    return isinstance(error, Cancelled)
