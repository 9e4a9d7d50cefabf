"""The Flash page in the real window: the unit as it moves, locks, a unit on another bus, the vault, the live log."""

from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog

from yarvic.bench.control_unit.facts import UnitFacts
from yarvic.bench.control_unit.process import new_unit, start_unit
from yarvic.bench.vehicles import gearbox_image, layout_text
from yarvic.core.formats.images import in_memory, read_image


@pytest.fixture
def page(driver):
    """On Flash with A1 in hand, B1 in a unit that takes no time."""
    driver.rung("A1")
    driver.step(4)
    driver.window.session.bench.unit.seconds_per_block = 0.0
    looked(driver)
    return driver.window.view("flash").write


def looked(driver):
    """Wait until the unit was looked at as it is now."""
    link = driver.window.session.link
    driver.wait("the unit to be looked at", lambda: link.looked is not None and not link._looking)


def said(driver):
    return [c.reading.sentence for c in driver.window.readings.cards]


def set_unit(driver, **values):
    driver.window.session.bench.set_unit(**values)
    driver.settle(100)
    looked(driver)


def choose_way(driver, key):
    view = driver.window.view("flash")
    do = next(do for text, do in view._ways() if text.lower() == key)
    do()
    driver.settle()


def test_what_is_shown_moves_with_the_unit(page, driver):
    assert "Battery: 13.4 V, on a maintainer, engine off" in page.link.accessibleDescription()
    set_unit(driver, maintained=False, charge=0.3)
    driver.wait("the battery", lambda: "no maintainer" in page.link.accessibleDescription())
    assert "Battery is too low to write" in said(driver)
    set_unit(driver, maintained=True, engine_runs=True)
    driver.wait("the engine", lambda: "The engine runs" in said(driver))
    driver.click(page.go)
    driver.idle()
    assert "the engine runs" in driver.window.notice.what.text()
    assert driver.window.session.bench.holds().name == "B1"


def test_a_locked_unit_is_opened_by_its_port_and_then_written(page, driver):
    assert not page.open.isVisible()
    set_unit(driver, lock="once")
    driver.wait("the lock", lambda: page.open.isVisible())
    driver.click(page.go)
    driver.idle()
    assert "is locked" in driver.window.notice.what.text() and "by its port" in driver.window.notice.remedy.text()
    driver.key(Qt.Key.Key_Escape)
    driver.click(page.open)
    driver.idle()
    driver.wait("it to be open", lambda: not page.open.isVisible())
    driver.click(page.go)
    driver.idle()
    assert driver.window.session.bench.holds().name == "A1"


def test_all_blocks_are_written_by_choice_and_what_it_holds_is_read_and_kept(page, driver):
    s = driver.window.session
    driver.click(page.everything)
    driver.idle()
    assert s.job.flashes()[-1].blocks == s.job.layout.blocks
    assert page.memory.states.count("read back equal") == s.job.layout.blocks
    before = len(list((s.bench.link.vault_folder / "images").iterdir()))
    driver.click(page.read)
    driver.idle()
    assert "are in the vault" in driver.window.status.message.text()
    assert len(list((s.bench.link.vault_folder / "images").iterdir())) == before


def test_a_unit_on_another_bus_is_chosen_shown_written_and_missed(page, driver, tmp_path, layout, stock, monkeypatch):
    monkeypatch.setenv("YARVIC_BUS", str(tmp_path / "bus"))
    monkeypatch.setattr("yarvic.state.reach.interface.InterfaceReach.sleeps_s", 0.1)
    new_unit(tmp_path / "unit", layout, stock, UnitFacts(name="shop", serial="W-7", erase_s=0.0, write_s_kib=0.0))
    unit = start_unit(tmp_path / "unit", "shop")
    s = driver.window.session
    try:
        choose_way(driver, "by interface")
        assert page.bus.isVisible() and "Untried on a real unit" in page.bus.caution.text()
        assert "No channel is named" in page.summary.text()
        next(do for text, do in page.bus._interfaces() if text == "virtual bus")()
        page.bus.channel.setFocus()
        driver.type("shop")
        driver.key(Qt.Key.Key_Return)
        driver.wait("the unit", lambda: "shop W-7" in page.link.accessibleDescription())
        assert set(page.memory.states) == {"not read yet"}
        driver.click(page.go)
        driver.idle()
        assert not driver.window.notice.isVisible(), driver.window.notice.what.text()
        assert unit.memory() == s.job.image(s.job.revision("A1").image) and s.unit_holds().name == "A1"
        assert "Unit by virtual bus shop: holds A1" in driver.window.status.unit.text()
        # Remembered for the next start; what the simulated unit holds is another thing.
        assert s.settings.channel == "shop" and s.bench.holds().name == "B1"
        unit.kill()
        driver.wait("it to be missed", lambda: "does not answer" in page.link.accessibleDescription())
        driver.click(page.go)
        driver.idle()
        assert "does not answer" in driver.window.notice.what.text()
    finally:
        unit.kill()


def test_the_vault_is_searched_compared_exported_checked_and_thinned(page, driver, tmp_path, monkeypatch):
    s = driver.window.session
    driver.click(page.go)
    driver.idle()
    driver.rung("Stock")
    driver.click(page.go)
    driver.idle()
    view = driver.window.view("flash")
    driver.click(view.vault_word)
    vault = view.vault
    driver.wait("the list", lambda: len(vault.model.listed) == 3)
    vault.search.setFocus()
    driver.type("a1 ptarmigan")
    assert [k.all_of("revision") for k in vault.model.listed] == ["A1"] and vault.count.text() == "1 of 3 fit"
    vault.table.selectRow(0)
    sha = vault.chosen()[0].sha
    path = tmp_path / "out.hex"
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(path), ""))
    next(do for text, do in vault._forms() if text == "Intel HEX")()
    driver.idle()
    assert in_memory(read_image(path), s.job.layout) == s.job.image(s.job.revision("A1").image)
    # Damage is found at opening by size, and by every byte on demand.
    image = s.bench.link.vault_folder / "images" / f"{sha}.bin"
    whole = image.read_bytes()
    image.write_bytes(b"x" + whole[1:])
    driver.click(vault.prove)
    driver.idle()
    assert vault.damage.isVisible() and sha[:12] in vault.damage.text()
    vault.table.selectRow(0)
    driver.click(vault.compare)
    driver.idle()
    assert "damaged" in driver.window.notice.what.text()
    driver.key(Qt.Key.Key_Escape)
    image.write_bytes(whole)
    driver.step(4)
    view.show_panel("vault")
    vault.state.look()
    driver.wait("it to be whole", lambda: not vault.damage.isVisible())
    vault.table.selectRow(0)
    driver.click(vault.compare)
    driver.idle()
    assert s.settings.step == "maps" and "A1 of YR-SIM-01" in driver.window.maps.compared.name()
    driver.step(4)
    view.show_panel("vault")
    vault.table.selectRow(0)
    driver.click(vault.take)
    driver.idle()
    assert s.draft is not None and s.draft.edits
    vault.table.selectRow(0)
    driver.click(vault.remove)
    driver.wait("it to be gone", lambda: not vault.model.listed)
    assert not image.exists() and vault.state.held.faults == ()


def test_a_stock_image_stays(page, driver):
    s = driver.window.session
    # What somebody else's unit came with.
    s.bench.unit.load(bytes(s.job.image(s.job.revision("Stock").image))[:-4] + bytes(4))
    vault = driver.window.view("flash").vault
    from yarvic.core.link.vault import Vault

    Vault(s.bench.link.vault_folder).put(b"stock" * 20, "read", serial="W-1", family="another")
    driver.click(driver.window.view("flash").vault_word)
    driver.wait("the list", lambda: len(vault.model.listed) == 1)
    vault.table.selectRow(0)
    assert vault.chosen()[0].stock and not vault.remove.isEnabled() and "not removed" in vault.about.text()
    assert not vault.compare.isEnabled() and vault.export.isEnabled()


def test_a_log_comes_live_and_is_kept_where_it_is_stopped(page, driver):
    s = driver.window.session
    driver.rung("B1")
    before = len(s.job.evidence())
    driver.click(driver.window.view("flash").live_word)
    live = driver.window.view("live")
    driver.click(live.boxes["oil_temperature"])
    driver.click(live.start)
    driver.idle()
    assert len(s.job.evidence()) == before + 1 and "of" in live.summary.text() and "missed" in live.summary.text()
    assert len(live._lanes) > 3 and "oil_temperature" not in live.live.moments[0].values
    driver.click(live.show_logs)
    assert s.settings.step == "logs"
    # In its own process, in real time, and stopped.
    s.bench.unit.seconds_per_block = 0.001
    driver.window.view("logs").live_word.click()
    driver.click(live.start)
    driver.wait("values", lambda: len(live.live.moments) > 5)
    driver.click(live.stop)
    driver.idle()
    log = s.job.log(s.job.evidence()[-1].id)
    assert len(s.job.evidence()) == before + 2 and log.channel("engine_speed").time_s[-1] < 5.0
    driver.click(live.start)
    driver.wait("values", lambda: len(live.live.moments) > 2)
    driver.click(driver.window.status.cancel)
    driver.idle()
    assert len(s.job.evidence()) == before + 2 and "cancelled" in driver.window.status.message.text()


def test_a_gearbox_is_paired_in_the_window_and_both_are_written(page, driver, tmp_path, monkeypatch):
    s = driver.window.session
    (tmp_path / "box.toml").write_text(layout_text("ptarmigan_gearbox"), "utf-8")
    for name, share in (("stock", 1.0), ("strong", 1.2)):
        (tmp_path / f"{name}.bin").write_bytes(gearbox_image("ptarmigan", name, share))
    chosen = [tmp_path / "box.toml", tmp_path / "stock.bin", tmp_path / "strong.bin"]
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *a, **k: (str(chosen.pop(0)), ""))
    for _ in range(2):
        driver.click(page.pair)
        driver.idle()
    assert "A1 goes with strong" in page.paired.text() and page.gearbox.isVisible()
    driver.rung("B1")
    driver.settle()
    assert "Half a pair" in said(driver) and "half a pair" in driver.window.status.unit.text()
    s.bench.gearbox.seconds_per_block = 0.0
    driver.rung("A1")
    driver.click(page.go)
    driver.idle()
    assert s.bench.holds().name == "A1" and s.link.half_a_pair() == ""
    assert "strong in the gearbox's" in driver.window.status.message.text()
    # A file that is no image of it changes nothing.
    (tmp_path / "text.bin").write_text("this is no image " * 4, "utf-8")
    chosen.append(Path(tmp_path / "text.bin"))
    driver.click(page.pair)
    driver.idle()
    assert driver.window.notice.isVisible() and len(s.job.pairings()) == 2


def test_a_window_is_not_closed_over_a_write_by_one_click(page, driver):
    s = driver.window.session
    s.bench.unit.seconds_per_block = 0.02
    driver.click(page.everything)
    driver.wait("the write", lambda: "written" in page.memory.states)
    driver.window.close()
    driver.settle()
    assert driver.window.isVisible() and "being written" in driver.window.notice.what.text()
    driver.click(driver.window.status.cancel)
    driver.idle()
    assert s.bench.holds().name == "B1"
