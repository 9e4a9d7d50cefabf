"""Three styles of CSV from the simulated loggers, each read back as what it was."""

import numpy as np
import pytest
from evidence_files import read_log

from yarvic.bench.loggers import STYLES, write_log
from yarvic.core.errors import FormatError
from yarvic.core.evidence.pulls import find_pulls

AFR = 14.6


@pytest.fixture(params=sorted(STYLES))
def style(request):
    return STYLES[request.param]


def test_each_style_comes_back_as_what_it_was(style, pulled, tmp_path):
    log, _ = pulled
    path = tmp_path / f"{style.key}.csv"
    path.write_text(write_log(log, style, stoichiometric_afr=AFR), encoding="utf-8")
    back = read_log(path, stoichiometric_afr=AFR)
    assert set(back.channels) == set(log.channels)
    start = log.span()[0]
    for key, channel in back.channels.items():
        truth = log.at(key, channel.time_s + start)
        both = np.isfinite(truth) & np.isfinite(channel.values)
        assert np.count_nonzero(both) > 0.9 * truth.size, key
        size = max(float(np.ptp(truth[both])), float(np.abs(truth[both]).max()) * 2e-2, 1e-9)
        assert np.abs(channel.values - truth)[both].max() < 0.02 * size + 0.006, key
    assert len(find_pulls(back)) == 1


def test_the_styles_differ_in_header_unit_and_sign(pulled):
    heads = {k: write_log(pulled[0], s, stoichiometric_afr=AFR).splitlines()[:3] for k, s in STYLES.items()}
    assert heads["plain"][0].startswith("time [s],Engine speed [rpm],")
    assert "MAP (psi)" in heads["imperial"][0] and "AFR (AFR)" in heads["imperial"][0]
    assert heads["two-line"][1].startswith("s;1/min;") and "," in heads["two-line"][2]


def test_an_air_fuel_ratio_is_not_read_without_its_fuel(pulled, tmp_path):
    path = tmp_path / "afr.csv"
    path.write_text(write_log(pulled[0], STYLES["imperial"], stoichiometric_afr=AFR))
    log = read_log(path)
    assert log.channel("lambda_measured").doubt.about == log.channel("lambda_target").doubt.about == "fuel"


def test_a_degree_sign_of_an_older_encoding(pulled, tmp_path):
    path = tmp_path / "old.csv"
    text = write_log(pulled[0], STYLES["two-line"], stoichiometric_afr=AFR)
    path.write_bytes(text.encode("iso-8859-1"))
    assert np.nanmin(read_log(path, stoichiometric_afr=AFR).channels["charge_temperature"].values) > 273.0


def test_tabs_and_what_is_no_text(tmp_path):
    path = tmp_path / "t.csv"
    path.write_text("time [s]\trpm [rpm]\n0.0\t900\n0.1\t950\n")
    assert list(read_log(path).channels["engine_speed"].values) == [900.0, 950.0]
    path.write_bytes(b"PK\x03\x04\0\0\0")
    with pytest.raises(FormatError, match="damaged"):
        read_log(path)
    with pytest.raises(FormatError, match="is not there"):
        read_log(tmp_path / "none.csv")
