#!/bin/sh
# Core, bench and state first, in a process where PyQt6 cannot be imported; then the window, offscreen. Both halves run,
# whatever the first finds.
set -u
BIN=$1
export OMP_NUM_THREADS=1 OPENBLAS_NUM_THREADS=1
# One more than there are processors: a test that waits for a unit, a worker or a picture leaves its own to another.
WORKERS=$(($(nproc) + 1))
FAILED=0
YARVIC_NO_QT=1 "$BIN/python" -m pytest -n $WORKERS --dist worksteal -p no:pytest-qt tests --ignore=tests/desk || FAILED=1
QT_QPA_PLATFORM=offscreen PYTEST_QT_API=pyqt6 "$BIN/python" -m pytest -n $WORKERS --dist worksteal tests/desk || FAILED=1
exit $FAILED
