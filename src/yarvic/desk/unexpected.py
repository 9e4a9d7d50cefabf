"""What is raised where Qt calls us: a refusal is shown as it is, an error that nobody foresaw with its details."""

from __future__ import annotations

import sys
import traceback
from types import TracebackType

from PyQt6.QtCore import QObject, pyqtSignal

from yarvic.core.errors import YarvicError


class Unexpected(QObject):
    """Takes the place of Python's last resort. `happened` carries a YarvicError; all are kept for who asks."""

    happened = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.errors: list[YarvicError] = []
        self._before = sys.excepthook
        sys.excepthook = self._hook

    def _hook(self, kind: type[BaseException], value: BaseException, trace: TracebackType | None) -> None:
        # What a signal's listeners raise comes wrapped: what is told is the cause.
        cause = value.__cause__ or value
        refused = next((e for e in (value, cause) if isinstance(e, YarvicError)), None)
        if refused is not None:
            self.happened.emit(refused)  # it says why and what to do: that is no slip of ours
            return
        self._before(kind, value, trace)
        if not issubclass(kind, Exception):
            return
        error = YarvicError(
            f"something went wrong inside Yarvic ({type(cause).__name__}: {cause})",
            remedy="The draft and all that was committed are on disk. Please report this with the details.",
            details="".join(traceback.format_exception(kind, value, trace)),
        )
        self.errors.append(error)
        self.happened.emit(error)
