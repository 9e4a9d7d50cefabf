"""Processes of our own: they run this program's code and nothing that lies in the folder where it was started."""

from __future__ import annotations

import os
import sys
from pathlib import Path

# What a child gets of our environment, where it is set: where programs, libraries, texts and time zones are.
PASSED_ON = ("PATH", "PYTHONPATH", "LD_LIBRARY_PATH", "LANG", "LC_ALL", "TZ", "TMPDIR", "HOME", "XDG_RUNTIME_DIR")
_RUN = (
    "import importlib, sys; sys.path.insert(0, sys.argv[1]); importlib.import_module(sys.argv[2]).main(*sys.argv[3:])"
)


def command(module: str, *arguments: str) -> list[str]:
    """The command that calls `main` of one of our modules with texts."""
    ours = str(Path(__file__).resolve().parents[2])
    return [sys.executable, "-P", "-s", "-c", _RUN, ours, module, *arguments]


def environment(**more: str) -> dict[str, str]:
    """The environment of a child: the entries that we state, and no others."""
    return {**{name: os.environ[name] for name in PASSED_ON if name in os.environ}, **more}
