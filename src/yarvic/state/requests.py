"""Requests: what an act is about, as a value. Its outcome is applied only where what it is about still is what it was."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Mapping
from dataclasses import dataclass, field
from itertools import count
from typing import Any, TypeVar

from yarvic.core.errors import YarvicError
from yarvic.state.work import Handle, Heard, Runner, Work, is_cancel

T = TypeVar("T")


@dataclass(frozen=True)
class Request:
    """One act: its kind in words, the job it is in (a number for each opening), the revision and build it is about,
    and what it reads, by name, as values that change when what is read does.

    `number` rises from request to request. Made when the person acts, never changed.
    """

    number: int
    kind: str
    job: int
    revision: int | None = None
    build: int | None = None
    reads: Mapping[str, Hashable] = field(default_factory=dict)

    @property
    def subject(self) -> tuple[Hashable, ...]:
        """What a newer request of the same subject takes the place of."""
        return self.kind, self.job, self.revision


@dataclass
class _UnderWay:
    request: Request
    handle: Handle | None = None


class Requests:
    """The requests under way. `still` says why the outcome of one may not be applied (empty: it may).

    A newer request for the same subject takes the place of an older one: that is cancelled, and its outcome dropped.
    """

    def __init__(
        self,
        runner: Runner,
        still: Callable[[Request], str],
        dropped: Callable[[Request, str], None],
        failed: Callable[[YarvicError], None],
    ) -> None:
        self.runner, self._still, self._dropped, self._failed = runner, still, dropped, failed
        self._numbers = count(1)
        self._under_way: dict[tuple[Hashable, ...], _UnderWay] = {}

    def number(self) -> int:
        """The next request's number."""
        return next(self._numbers)

    def submit(
        self,
        request: Request,
        title: str,
        work: Work[T],
        apply: Callable[[T], None],
        *,
        failed: Callable[[YarvicError], None] | None = None,
        lost: Callable[[T], None] = lambda outcome: None,
        ended: Callable[[], None] = lambda: None,
        visible: bool = True,
        heard: Heard | None = None,
    ) -> Handle:
        """Start the work of a request. `ended` is called whatever comes of it, before anything else.

        A cancel, and an outcome that may not be applied any more, are said by `dropped`; `failed` is for errors, `lost`
        is given an outcome that nobody takes.
        """
        before = self._under_way.get(request.subject)
        if before is not None and before.handle is not None:
            before.handle.cancel()
        mine = _UnderWay(request)
        self._under_way[request.subject] = mine

        def over() -> str | None:
            """Why its outcome is dropped; None when nobody needs to hear it, for a newer one came."""
            ended()
            if self._under_way.get(request.subject) is not mine:
                return None
            del self._under_way[request.subject]
            return self._still(request)

        def done(outcome: T) -> None:
            why = over()
            if why is None or why:
                lost(outcome)
                if why:
                    self._dropped(request, why)
                return
            try:
                apply(outcome)
            except YarvicError as error:
                (failed or self._failed)(error)

        def wrong(error: YarvicError) -> None:
            why = over()
            if why is None:
                return
            if why or is_cancel(error):
                self._dropped(request, str(error) if is_cancel(error) else why)
            else:
                (failed or self._failed)(error)

        handle = self.runner.run(title, work, done, wrong, visible=visible, heard=heard)
        if self._under_way.get(request.subject) is mine:
            mine.handle = handle
        return handle

    def cancel_all(self) -> None:
        """Ask all work to stop; outcomes that come all the same are dropped."""
        for each in self._under_way.values():
            if each.handle is not None:
                each.handle.cancel()
        self._under_way.clear()


def about(value: Any) -> Hashable:
    """A value as a request can carry it: its content as text where it cannot be hashed itself."""
    try:
        hash(value)
    except TypeError:
        return repr(value)
    return value  # type: ignore[no-any-return]
