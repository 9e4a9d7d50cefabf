"""What is told: sentences for the status line, and errors that are shown in full."""

from __future__ import annotations

from collections.abc import Callable

from psygnal import Signal

from yarvic.core.errors import YarvicError


class Told:
    """Says things to whoever listens."""

    told = Signal(str, bool)  # a sentence for the status line; True for trouble
    failed = Signal(object)  # a YarvicError to be shown in full

    def say(self, sentence: str, *, trouble: bool = False) -> None:
        """Put a sentence in the status line."""
        self.told.emit(sentence, trouble)

    def attempt(self, do: Callable[[], object]) -> None:
        """Do what may be refused; a refusal is shown in full."""
        try:
            do()
        except YarvicError as error:
            self.failed.emit(error)
