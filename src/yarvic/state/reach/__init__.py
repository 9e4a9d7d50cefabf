"""The ways to a unit, one file each: simulated, by an interface, by file. A new one is one more file with a `WAY`."""

from __future__ import annotations

from functools import cache
from importlib import import_module
from pkgutil import iter_modules

from yarvic.state.reach.door import Way


@cache
def ways() -> dict[str, Way]:
    """All of them by key, in the order in which they are offered."""
    modules = [import_module(f"{__name__}.{m.name}") for m in iter_modules(__path__)]
    found = [m.WAY for m in modules if hasattr(m, "WAY")]
    return {way.key: way for way in sorted(found, key=lambda way: way.order)}
