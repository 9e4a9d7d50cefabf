"""Yarvic: the calibrator's bench."""

import os

# Looking through all installed packages for plug-ins of pydantic takes a tenth of the start, and we have none.
os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "1")

__version__ = "0.1.0"
