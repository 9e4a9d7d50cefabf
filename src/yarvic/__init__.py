"""Yarvic: the calibrator's bench."""

import os

# Looking through all installed packages for plug-ins of pydantic takes a tenth of the start, and we have none.
os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "1")
# The matrices here are small: a second thread of the linear algebra takes longer to meet than it saves, and on a machine
# that has other work it waits for its turn each time.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

__version__ = "0.1.0"
