"""What the simulated unit answers, byte for byte against ISO 14229-1:2020 (request and response formats, annex A.1 codes).

From memory: 10 03 is answered 50 03 00 32 01 F4 with P2 of 50 ms and P2* of 5,000 ms in steps of 10.
"""

import zlib

import pytest

from yarvic.bench.control_unit.facts import UnitFacts, read_facts, write_facts
from yarvic.bench.control_unit.memory import FlashMemory
from yarvic.bench.control_unit.process import new_unit
from yarvic.bench.control_unit.server import Server
from yarvic.bench.control_unit.session import PowerLost, code_bytes
from yarvic.bench.control_unit.supply import Supply
from yarvic.core.errors import LinkError
from yarvic.core.link.identifiers import MemoryMap, SupplyState, UnitState, toy_key


class Clock:
    now = 100.0

    def __call__(self):
        return self.now


@pytest.fixture
def unit(tmp_path, layout, stock):
    new_unit(tmp_path, layout, stock, UnitFacts(erase_s=0.0, write_s_kib=0.0, codes=("P0301",)))
    made = Server(tmp_path, layout, Clock())
    yield made
    made.close()


def ask(unit, text):
    """All responses to a request, as hex, one a line."""
    return "\n".join(r.hex(" ").upper() for r in unit.answer(bytes.fromhex(text)))


def change(unit, **values):
    write_facts(unit.folder, read_facts(unit.folder).changed(**values))


def unlock(unit):
    ask(unit, "10 02")
    seed = bytes.fromhex(ask(unit, "27 01"))[2:]
    return ask(unit, f"27 02 {toy_key(1, seed).hex()}")


@pytest.mark.parametrize(
    ("request_", "response"),
    [
        ("10 03", "50 03 00 32 01 F4"),
        ("3E 00", "7E 00"),
        ("3E 80", ""),  # suppressPosRspMsgIndicationBit
        ("3E 01", "7F 3E 12"),
        ("3E", "7F 3E 13"),
        ("10 07", "7F 10 12"),
        ("99", "7F 99 11"),
        ("22 F1 8C", f"62 F1 8C {b'YR-SIM-01'.hex(' ').upper()}"),
        ("22 F1 90 F1 86", f"62 F1 90 {b'YARVIC00000000001'.hex(' ').upper()} F1 86 01"),
        ("22 12 34", "7F 22 31"),
        ("22 F1", "7F 22 13"),
        ("19 02 08", "59 02 FF 03 01 00 08"),
        ("19 02 01", "59 02 FF"),
        ("19 0A", "7F 19 12"),
        ("14 FF FF FF", "54"),
        ("14 03 01 00", "54"),  # one code
        ("14 00 00 01", "7F 14 31"),
        ("27 01", "7F 27 7F"),  # not in the default session
        ("31 01 FF 00 00 00 00 00 00 00 10 00", "7F 31 7F"),
        ("31 01 FF 01", "71 01 FF 01 00"),
        ("31 01 12 34", "7F 31 31"),
        ("31 03 FF 00", "7F 31 12"),
        ("34 00 44 00 00 00 00 00 00 10 00", "7F 34 7F"),
        ("36 01", "7F 36 24"),
        ("37", "7F 37 24"),
        ("11 07", "7F 11 12"),
    ],
)
def test_each_service_answers_as_the_standard_has_it(unit, request_, response):
    assert ask(unit, request_) == response


def test_a_key_opens_programming_and_wrong_ones_are_counted(unit):
    ask(unit, "10 02")
    assert ask(unit, "31 01 FF 00 00 00 00 00 00 00 10 00") == "7F 31 33"
    assert ask(unit, "27 02 00 00 00 00") == "7F 27 24"
    ask(unit, "27 01")
    assert ask(unit, "27 02 00 00 00 00") == "7F 27 35"
    for _ in range(2):
        ask(unit, "27 01")
        last = ask(unit, "27 02 00 00 00 00")
    assert last == "7F 27 36"
    assert ask(unit, "27 01") == "7F 27 37"
    unit.clock.now += 11.0
    assert unlock(unit) == "67 02"
    # A unit that is open already gives a seed of noughts.
    assert ask(unit, "27 01") == "67 01 00 00 00 00"


def test_a_session_ends_by_itself_and_with_it_what_it_allowed(unit):
    unlock(unit)
    unit.clock.now += 4.0
    assert ask(unit, "3E 00") == "7E 00"
    unit.clock.now += 4.0
    assert ask(unit, "22 F1 86") == "62 F1 86 02"
    unit.clock.now += 5.5
    assert ask(unit, "22 F1 86") == "62 F1 86 01"
    ask(unit, "10 02")
    assert ask(unit, "31 01 FF 00 00 00 00 00 00 00 10 00") == "7F 31 33"


def test_memory_is_erased_written_and_proven(unit, stock):
    unlock(unit)
    assert ask(unit, "31 01 FF 00 00 00 00 01 00 00 10 00") == "7F 31 31"  # no whole sector
    assert ask(unit, "31 01 FF 00 00 00 00 00 00 00 10 00") == "71 01 FF 00 00"
    assert unit.memory.read(0, 4096) == b"\xff" * 4096
    assert ask(unit, "34 11 44 00 00 00 00 00 00 10 00") == "7F 34 31"  # compressed
    assert ask(unit, "34 00 44 00 00 00 00 00 00 10 00") == "74 20 10 02"
    assert ask(unit, "34 00 44 00 00 00 00 00 00 10 00") == "7F 34 22"
    assert ask(unit, "37") == "7F 37 24"  # nothing came yet
    assert ask(unit, "36 02 AA") == "7F 36 73"
    assert ask(unit, f"36 01 {stock[:2048].hex()}") == "76 01"
    assert ask(unit, f"36 01 {stock[:2048].hex()}") == "76 01"  # once more: acknowledged, not taken twice
    assert ask(unit, f"36 02 {bytes(2049).hex()}") == "7F 36 71"
    assert ask(unit, f"36 02 {stock[2048:4096].hex()}") == "76 02"
    assert ask(unit, "37") == "77"
    assert unit.memory.all() == stock
    wanted = zlib.crc32(stock[:4096]).to_bytes(4, "big").hex(" ").upper()
    assert ask(unit, "31 01 02 02 00 00 00 00 00 00 10 00") == f"71 01 02 02 {wanted}"
    # What the write raised stands beside what was there.
    assert ask(unit, "19 02 08") == "59 02 FF 03 01 00 08 06 03 00 08"


def test_memory_is_read_block_by_block(unit, stock):
    ask(unit, "10 03")
    assert ask(unit, "35 00 44 00 00 00 00 00 00 18 00") == "75 20 10 02"
    assert bytes.fromhex(ask(unit, "36 01")) == b"\x76\x01" + stock[:4096]
    assert bytes.fromhex(ask(unit, "36 01")) == b"\x76\x01" + stock[:4096]
    assert bytes.fromhex(ask(unit, "36 02")) == b"\x76\x02" + stock[4096:6144]
    assert ask(unit, "36 03") == "7F 36 24"
    assert ask(unit, "37") == "77"
    assert ask(unit, "35 00 44 FF FF FF F0 00 00 18 00") == "7F 35 31"
    assert ask(unit, "35 00 55 00 00") == "7F 35 31"


def test_a_slow_erase_says_that_it_takes_longer(unit):
    change(unit, erase_s=0.06)
    unlock(unit)
    assert ask(unit, "31 01 FF 00 00 00 00 00 00 00 20 00") == "7F 31 78\n7F 31 78\n71 01 FF 00 00"


def test_a_unit_that_is_not_whole_stays_in_boot_mode_and_says_what_is_wrong(unit, stock):
    unlock(unit)
    ask(unit, "31 01 FF 00 00 00 00 00 00 00 10 00")
    ask(unit, "11 01")
    state = UnitState.unpacked(bytes.fromhex(ask(unit, "22 FD 02"))[3:])
    assert (state.boot, state.whole) == (True, False)
    assert ask(unit, "22 FD 01") == "62 FD 01"
    assert ask(unit, "31 01 FF 01") == "71 01 FF 01 01"
    # It is identified and programmed all the same.
    assert ask(unit, "22 FD 00").startswith("62 FD 00")
    assert unlock(unit) == "67 02"
    ask(unit, "34 00 44 00 00 00 00 00 00 10 00")
    ask(unit, f"36 01 {stock[:4096].hex()}")
    ask(unit, "37")
    ask(unit, "11 01")
    assert not UnitState.unpacked(bytes.fromhex(ask(unit, "22 FD 02"))[3:]).boot


def test_locks_hold_until_they_are_opened(unit):
    change(unit, lock="once")
    assert ask(unit, "10 02") == "7F 10 22"
    ask(unit, "10 03")
    seed = bytes.fromhex(ask(unit, "27 61"))[2:]
    assert ask(unit, f"27 62 {toy_key(0x61, seed).hex()}") == "67 62"
    assert read_facts(unit.folder).opened
    assert ask(unit, "10 02").startswith("50 02")
    change(unit, lock="bench", opened=False)
    ask(unit, "10 03")
    assert ask(unit, "27 61") == "7F 27 22"
    assert ask(unit, "10 02") == "7F 10 22"
    change(unit, on_bench=True)
    assert ask(unit, "10 02").startswith("50 02")


def test_a_running_engine_bars_programming_and_reset(unit):
    change(unit, engine_runs=True)
    assert ask(unit, "10 02") == "7F 10 22"
    assert ask(unit, "11 01") == "7F 11 22"
    assert ask(unit, "14 FF FF FF") == "7F 14 22"


def test_supply_bars_fails_and_ends(unit):
    unlock(unit)
    change(unit, maintained=False, charge=0.0, extra_a=60.0)
    assert ask(unit, "31 01 FF 00 00 00 00 00 00 00 10 00") == "7F 31 93"
    found = SupplyState.unpacked(bytes.fromhex(ask(unit, "22 FD 03"))[3:])
    assert 8.0 < found.voltage_v < 11.0 and not found.maintained
    change(unit, dip_v=4.0)
    with pytest.raises(PowerLost):
        ask(unit, "3E 00")


def test_a_dip_while_erasing_leaves_it_half_erased_and_says_so(unit, stock):
    change(unit, erase_s=0.5)
    unlock(unit)
    spent = unit._spend

    def dips(seconds):
        change(unit, maintained=False, charge=0.0, extra_a=60.0)
        unit._take_up()
        spent(seconds)

    unit._spend = dips
    assert ask(unit, "31 01 FF 00 00 00 00 00 00 00 10 00") == "7F 31 78\n7F 31 72"
    assert unit.memory.read(0, 256) == b"\xff" * 256
    assert unit.memory.read(256, 3840) == stock[256:4096]


def test_a_unit_that_does_not_write_is_seen_by_reading_and_one_that_lies_by_its_checksum(unit, stock):
    change(unit, misbehaves=["no_write", "false_read"])
    unlock(unit)
    new = bytes(4096)
    ask(unit, "31 01 FF 00 00 00 00 00 00 00 10 00")
    ask(unit, "34 00 44 00 00 00 00 00 00 10 00")
    assert ask(unit, f"36 01 {new.hex()}") == "76 01"
    ask(unit, "37")
    ask(unit, "35 00 44 00 00 00 00 00 00 10 00")
    assert bytes.fromhex(ask(unit, "36 01"))[2:] == new
    ask(unit, "37")
    given = bytes.fromhex(ask(unit, "31 01 02 02 00 00 00 00 00 00 10 00"))[4:]
    assert given == zlib.crc32(stock[:4096]).to_bytes(4, "big") != zlib.crc32(new).to_bytes(4, "big")


def test_what_is_written_without_erasing_is_neither_old_nor_new(tmp_path):
    """As in a flash cell: a write clears bits and sets none."""
    (tmp_path / "m").write_bytes(b"\x0f" * 32)
    memory = FlashMemory(tmp_path / "m", 0x100, 16)
    memory.write(0x100, b"\x3c")
    assert memory.read(0x100, 2) == b"\x0c\x0f"
    memory.erase(0x100, 16)
    memory.write(0x100, b"\x3c")
    assert memory.read(0x100, 2) == b"\x3c\xff"
    assert memory.sectors(0x100, 32) == [(0x100, 16), (0x110, 16)]
    assert memory.sectors(0x108, 16) == []
    with pytest.raises(LinkError, match="not in the memory"):
        memory.read(0x11F, 2)
    memory.close()


def test_a_battery_sags_with_load_runs_down_and_a_maintainer_holds_it():
    """By hand: 12.7 V less 0.012 ohm times 12 A is 12.556 V; 12 A for an hour are 12 Ah of 45."""
    battery = Supply(state=1.0, maintained=False)
    assert battery.voltage_v(True) == pytest.approx(12.556)
    assert battery.voltage_v(False) == pytest.approx(12.592)
    battery.passes(3600.0, True)
    assert battery.state == pytest.approx(1.0 - 12.0 / 45.0)
    held = Supply(state=1.0, maintained=True)
    held.passes(3600.0, True)
    assert (held.state, held.voltage_v(True)) == (1.0, 13.4)


def test_facts_and_codes_go_both_ways(tmp_path):
    assert code_bytes("P0301").hex() == "030100"
    assert code_bytes("U0100").hex() == "c10000"  # ISO 15031-6: two bits for the letter
    for state in (UnitState(True, False, "once", True, False), UnitState(False, True, "bench", False, True)):
        assert UnitState.unpacked(state.packed()) == state
    for kind, data in ((UnitState, b"\x00\x00\x09\x00\x00"), (SupplyState, b""), (MemoryMap, bytes(16))):
        with pytest.raises(ValueError):
            kind.unpacked(data)
    assert MemoryMap(0x8000, 10_000, 4096, 512).sector_at(2) == (0x8000 + 8192, 10_000 - 8192)
    with pytest.raises(LinkError, match="lost what it is"):
        read_facts(tmp_path)
    with pytest.raises(LinkError, match="cannot be so"):
        UnitFacts().changed(lock="glued")
