"""Runs that one habit of a logger or one fault of a file hurt: what is taken without a question is right."""

from collections import Counter

import pytest

from tests.core.formats.habits import HABITS, case, table

# A header that names another unit than the numbers are in, and a sensor whose volts lie where its quantity does: what the
# numbers cannot tell. docs/reading-logs.md has how often.
CANNOT_BE_TOLD = ("another_unit_than_stated", "in_volts", "in_counts")


@pytest.mark.parametrize("habit", [n for n, h in enumerate(HABITS) if h.__name__ not in CANNOT_BE_TOLD])
def test_what_a_habit_hurts_is_right_or_asked(habit, tmp_path):
    counts = Counter()
    for n in range(3):
        made, hurt, _, _ = case(habit + len(HABITS) * (20 + n), tmp_path / "a.csv")
        assert made is HABITS[habit]
        counts.update(how for _, how, _ in hurt)
        assert [said for _, how, said in hurt if how == "wrong"] == []
    assert sum(counts.values()) > 0


def test_the_page_counts_every_column_once():
    lines, _ = table(len(HABITS), 600)
    assert sum(line.startswith("|") for line in lines) >= len(HABITS) + 3
    assert lines[2].startswith("| a row of zeros | 1 |")
