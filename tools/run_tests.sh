#!/bin/sh
# Core, bench and state first, in a process where PyQt6 cannot be imported; then the window, offscreen.
set -eu
BIN=$1
export OMP_NUM_THREADS=1 OPENBLAS_NUM_THREADS=1
YARVIC_NO_QT=1 "$BIN/python" -m pytest -n 2 --dist worksteal -p no:pytest-qt tests --ignore=tests/desk
QT_QPA_PLATFORM=offscreen PYTEST_QT_API=pyqt6 "$BIN/python" -m pytest -n 2 --dist worksteal tests/desk
