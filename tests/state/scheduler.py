"""A runner whose outcomes come when, and in the order in which, a test wants them."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from yarvic.core.errors import Cancelled, YarvicError
from yarvic.state.work import InlineHandle


@dataclass
class Pending:
    """Work that was asked for; `hide` is whether nobody sees it."""

    title: str
    work: Callable[..., Any]
    done: Callable[[Any], None]
    failed: Callable[[YarvicError], None]
    heard: Callable[[object], None] | None
    handle: InlineHandle
    visible: bool


class Scheduler:
    """Keeps work until `finish`. Work is done at that moment, or was done when it was asked for (`early`)."""

    def __init__(self, *, early=False):
        self.pending: list[Pending] = []
        self.early = early

    def run(self, title, work, done, failed, *, visible=True, heard=None):
        handle = InlineHandle(title)
        if self.early:
            work = self._now(work, handle, heard)
        self.pending.append(Pending(title, work, done, failed, heard, handle, visible))
        return handle

    def _now(self, work, handle, heard):
        try:
            outcome = work(lambda share, what, detail=None: None, lambda: False)
        except YarvicError as error:
            wrong = error
            return lambda progress, asked: (_ for _ in ()).throw(wrong)
        return lambda progress, asked: outcome

    def finish(self, at=0):
        """Let the outcome of one come; a cancelled one ends as cancelled, or all the same when it was done before."""
        p = self.pending.pop(at)

        def progress(share, what, detail=None, /):
            if p.heard is not None and detail is not None:
                p.heard(detail)

        try:
            if p.handle.asked and not self.early:
                raise Cancelled(f"{p.title} was cancelled")
            outcome = p.work(progress, lambda: p.handle.asked)
        except YarvicError as error:
            p.failed(error)
        else:
            p.done(outcome)

    def finish_all(self):
        """Let everything come, in order, and what that asks for."""
        while self.pending:
            self.finish()

    def finish_titled(self, part):
        """Let the first outcome come whose title holds these words."""
        self.finish(next(i for i, p in enumerate(self.pending) if part in p.title))
