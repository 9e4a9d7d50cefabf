"""Time as loggers write it: in parts, in digits, with names of months, in tenths; each is read right, or no log is made."""

import datetime

import numpy as np
import pytest

from yarvic.core.errors import FormatError
from yarvic.core.formats.logs.import_log import import_logs

T = np.arange(0.0, 12.0, 0.05)
BEGUN = datetime.datetime(2026, 3, 14, 13, 59, 55)


def at(t):
    return BEGUN + datetime.timedelta(seconds=float(t))


def us(t):
    return at(t).microsecond


WAYS = {
    "seconds beside milliseconds": (["Time (s)", "ms"], lambda t: [int(t + 1e-9), round(t % 1 * 1000) % 1000]),
    "sec beside msec": (["sec", "msec"], lambda t: [int(t + 1e-9), round(t % 1 * 1000) % 1000]),
    "a clock beside milliseconds": (["Time", "Milliseconds"], lambda t: [at(t).strftime("%H:%M:%S"), us(t) // 1000]),
    "hours, minutes, seconds": (
        ["hour", "minute", "second"], lambda t: [at(t).hour, at(t).minute, f"{at(t).second + us(t) / 1e6:.3f}"],
    ),
    "four parts": (["h", "min", "s", "ms"], lambda t: [at(t).hour, at(t).minute, at(t).second, us(t) // 1000]),
    "digits of a satellite clock": (["GPS time"], lambda t: [at(t).strftime("%H%M%S.") + f"{us(t) // 10000:02d}"]),
    "digits of universal time": (["UTC"], lambda t: [at(t).strftime("%H%M%S.") + f"{us(t) // 1000:03d}"]),
    "tenths": (["Time (1/10 s)"], lambda t: [f"{t * 10:.1f}"]),
    "tens of milliseconds": (["Time (10 ms)"], lambda t: [f"{t * 100:.0f}"]),
    "days, as spreadsheets count": (["Time"], lambda t: [f"{46095.58327546 + t / 86400:.10f}"]),
    "a month by its name": (["Date"], lambda t: [at(t).strftime("%d %b %Y %H:%M:%S.%f")]),
    "the month first": (["Date"], lambda t: [at(t).strftime("%b %d %Y %H:%M:%S.%f")]),
    "a German month": (["Datum"], lambda t: [at(t).strftime("%d. März 2026 %H:%M:%S.%f")]),
    "a short year": (["Date"], lambda t: [at(t).strftime("%d-%b-%y %H:%M:%S.%f")]),
    "a zone": (["Timestamp"], lambda t: [at(t).isoformat(timespec="milliseconds") + "+01:00"]),
    "the end of summer time": (
        ["Timestamp"],
        lambda t: [
            (at(t) + datetime.timedelta(hours=1)).isoformat(timespec="milliseconds") + "+02:00"
            if t < 5
            else at(t).isoformat(timespec="milliseconds") + "+01:00"
        ],
    ),
    "whole seconds": (["Time (s)"], lambda t: [int(t + 1e-9)]),
    "past midnight in parts": (
        ["hour", "minute", "second"],
        lambda t: [(at(t + 36_000).hour), at(t + 36_000).minute, f"{at(t + 36_000).second + us(t) / 1e6:.3f}"],
    ),
}  # fmt: skip


def written(path, heads, stamp):
    lines = [",".join([*heads, "RPM", "TPS (%)"])]
    for t in T:
        rpm = 900 + 440 * max(t - 2.0, 0.0)
        lines.append(",".join([*map(str, stamp(t)), f"{rpm:.0f}", "100" if t > 2 else "5"]))
    path.write_text("\n".join(lines) + "\n", encoding="utf-8")
    return path


@pytest.mark.parametrize("way", WAYS)
def test_time_is_read_as_it_was_written(tmp_path, way):
    found = import_logs(written(tmp_path / "a.csv", *WAYS[way]))
    assert len(found) == 1
    speed = found[0].log.channel("engine_speed")
    assert speed.values.size == T.size
    assert np.allclose(speed.time_s - speed.time_s[0], T, atol=0.011), speed.time_s[:5]


@pytest.mark.parametrize(
    ("heads", "stamp"), [(["Sample"], lambda t: [round(t / 0.05)]), (["Distance (m)"], lambda t: [f"{t * 20:.1f}"])]
)
def test_what_counts_no_time_makes_no_log(tmp_path, heads, stamp):
    with pytest.raises(FormatError, match="no time column") as told:
        import_logs(written(tmp_path / "a.csv", heads, stamp))
    assert told.value.remedy


def test_a_column_of_milliseconds_alone_stays_what_it_is(tmp_path):
    """One that counts on, past a thousand, is the time itself."""
    found = import_logs(written(tmp_path / "a.csv", ["ms"], lambda t: [round(t * 1000)]))
    speed = found[0].log.channel("engine_speed")
    assert np.allclose(speed.time_s, T, atol=1e-6)


def test_channels_that_are_called_like_a_part_are_no_time(tmp_path):
    """Seconds that count evenly beside a column `min` of engine speed's least."""
    found = import_logs(written(tmp_path / "a.csv", ["Time (s)", "min"], lambda t: [f"{t:.2f}", 850 + round(t)]))
    assert np.allclose(found[0].log.channel("engine_speed").time_s, T)
