"""Logs of files as tests want them: one recording, understood."""

from pathlib import Path

from yarvic.core.evidence.log import Log
from yarvic.core.evidence.mapping import Facts
from yarvic.core.formats.logs.import_log import Imported, import_logs


def imported(path: Path, **known) -> Imported:
    """The one recording of a file; `known` is what `import_logs` takes, or facts by name."""
    facts = {k: known.pop(k) for k in ("stoichiometric_afr", "barometer_pa") if k in known}
    found = import_logs(path, facts=Facts(**facts), **known)
    assert len(found) == 1
    return found[0]


def read_log(path: Path, **known) -> Log:
    """The log of such a file."""
    return imported(path, **known).log
