"""Random use of the window, a short run; `make fuzz` does a thousand events on each job in both themes."""

import pytest
from random_use import use


@pytest.mark.parametrize(("name", "theme"), [("ptarmigan", "paper"), ("wether", "night"), ("fieldfare", "paper")])
def test_random_use_meets_nothing_unforeseen(qapp, demo_copy, tmp_path, monkeypatch, name, theme):
    folder = tmp_path / "files"
    folder.mkdir()
    done, wrong = use(demo_copy(name), folder, f"{name} short", 120, theme, monkeypatch)
    assert wrong == [] and len(done) > 80
