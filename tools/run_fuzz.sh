#!/bin/sh
# An hour of what the suite does shortly: kills, random use of the window, and damaged files for the rest of the time.
set -eu
BIN=$1
SECONDS_LEFT=${2:-3600}
export OMP_NUM_THREADS=1 OPENBLAS_NUM_THREADS=1
BEGUN=$(date +%s)
"$BIN/python" -m tests.fuzz.kills 1000
QT_QPA_PLATFORM=offscreen "$BIN/python" -m tests.desk.random_use 1000
REST=$((SECONDS_LEFT - $(date +%s) + BEGUN))
"$BIN/python" -m tests.fuzz $((REST > 60 ? REST : 60))
