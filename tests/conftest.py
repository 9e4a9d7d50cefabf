"""Shared set-up: the computing half of the tests must pass where PyQt6 cannot be imported."""

import importlib.abc
import os
import sys


class _NoQt(importlib.abc.MetaPathFinder):
    def find_spec(self, name, path=None, target=None):
        if name.split(".")[0] in {"PyQt6", "pyqtgraph"}:
            raise ImportError(f"{name} is barred in this process: computation must not need Qt")
        return None


if os.environ.get("YARVIC_NO_QT"):
    sys.meta_path.insert(0, _NoQt())
