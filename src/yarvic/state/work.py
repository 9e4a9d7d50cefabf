"""Long work: a captured request goes out, a response comes back; nothing in between reads live state."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Protocol, TypeVar

from yarvic.core.errors import Cancelled, YarvicError

T = TypeVar("T")
Progress = Callable[[float, str], None]
Asked = Callable[[], bool]
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
    ) -> Handle:
        """Start work; exactly one of `done` and `failed` is called later, in the interface's thread."""


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
    ) -> Handle:
        """Run to the end, then call back."""
        handle = _Inline(title)
        try:
            result = work(lambda share, what: None, lambda: handle.asked)
        except YarvicError as error:
            failed(error)
        else:
            done(result)
        return handle


class _Inline:
    def __init__(self, title: str) -> None:
        self.title = title
        self.asked = False

    def cancel(self) -> None:
        self.asked = True


def is_cancel(error: YarvicError) -> bool:
    """Whether work ended because a person asked for it."""
    return isinstance(error, Cancelled)
