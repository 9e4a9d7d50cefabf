#!/bin/sh
# An hour of what the suite does shortly: new cases of each property, kills, random use of the window, and damaged files
# for the rest of the time. All of it runs, whatever one part finds.
set -u
BIN=$1
SECONDS_LEFT=${2:-3600}
export OMP_NUM_THREADS=1 OPENBLAS_NUM_THREADS=1
BEGUN=$(date +%s)
FAILED=0
PROPERTIES=$(grep -rlE "^@given|^    @given|YARVIC_CASES" tests --include='test_*.py' | grep -v tests/desk)
# shellcheck disable=SC2086
YARVIC_CASES=new "$BIN/python" -m pytest -n 2 -q -p no:pytest-qt $PROPERTIES || FAILED=1
"$BIN/python" -m tests.fuzz.kills 1000 || FAILED=1
QT_QPA_PLATFORM=offscreen "$BIN/python" -m tests.desk.random_use 1000 || FAILED=1
REST=$((SECONDS_LEFT - $(date +%s) + BEGUN))
"$BIN/python" -m tests.fuzz $((REST > 60 ? REST : 60)) || FAILED=1
exit $FAILED
