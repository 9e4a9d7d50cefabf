"""One damaged file: what must come of it."""

import signal
import time
from collections import Counter
from contextlib import contextmanager
from pathlib import Path

from yarvic.core.errors import YarvicError
from yarvic.core.reading import DEFECTS, READERS

from .targets import targets

FOUND = Path(__file__).parent / "found"
TEN_SECONDS = 10
MOST_KIB = 1024 * 1024
ACCEPTED: Counter[str] = Counter()  # by reader, of those tried in this process


class Hung(BaseException):
    """The reader came to no end."""


@contextmanager
def ten_seconds():
    def ring(*_):
        raise Hung

    before = signal.signal(signal.SIGALRM, ring)
    signal.alarm(TEN_SECONDS)
    try:
        yield
    finally:
        signal.alarm(0)
        signal.signal(signal.SIGALRM, before)


def one(key: str, data: bytes, folder: Path) -> str:
    """Read damaged data; gives what is wrong with how that went, empty when all is well."""
    path = folder / f"a{READERS[key].suffix}"
    for old in folder.iterdir():
        old.unlink()
    path.write_bytes(data)
    DEFECTS.clear()
    begun = time.monotonic()
    try:
        with ten_seconds():
            accepted = targets()[key].read(path)
    except Hung:
        return f"came to no end in {TEN_SECONDS} s"
    except YarvicError as error:
        if DEFECTS:
            return f"{DEFECTS[-1].kind} came from below\n{DEFECTS[-1].trace}"
        if not error.remedy or not error.concerns:
            return f"does not say where or what to do: {error}"
        if any(ord(c) < 32 or 0x7F <= ord(c) < 0xA0 for c in str(error)):
            return "its message steers the terminal"
        return ""
    except Exception as error:  # noqa: BLE001 - that is what is looked for
        import traceback

        return f"{type(error).__name__} came out\n{''.join(traceback.format_tb(error.__traceback__)[-4:])}"
    ACCEPTED[key] += 1
    if key in ("job", "release package") and accepted not in whole(key, folder):
        return "accepted what was changed"
    return f"took {time.monotonic() - begun:.0f} s" if time.monotonic() - begun > TEN_SECONDS else ""


_whole: dict[str, list[object]] = {}


def whole(key, folder):
    """What the undamaged files give."""
    if key not in _whole:
        given = []
        for n, seed in enumerate(targets()[key].seeds):
            path = folder / f"whole-{n}{READERS[key].suffix}"
            path.write_bytes(seed)
            given.append(targets()[key].read(path))
        _whole[key] = given
    return _whole[key]
