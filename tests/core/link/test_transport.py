"""Messages over frames, byte for byte against ISO 15765-2 (protocol control information, tables 8 to 17; from memory)."""

import threading
import time

import can
import pytest
from udsoncan import TimeoutException

from yarvic.bench.control_unit.loop import Clock
from yarvic.core.errors import LinkError
from yarvic.core.link.transport import PADDING, TESTER, UNIT, IsoTp, PendingError, TransportError

PAD = bytes([PADDING])


@pytest.fixture
def wire():
    """A tester's line and the bare frames at the other end, classic CAN."""
    name = f"wire-{time.monotonic_ns()}"
    near, far = (can.Bus(interface="virtual", channel=name) for _ in range(2))
    line = IsoTp(near, TESTER, UNIT, fd=False, rx_flowcontrol_timeout=200, rx_consecutive_frame_timeout=200)
    yield line, Wire(far)
    near.shutdown()
    far.shutdown()


class Wire:
    def __init__(self, bus):
        self.bus = bus

    def give(self, text, identifier=UNIT):
        self.bus.send(can.Message(arbitration_id=identifier, data=bytes.fromhex(text), is_extended_id=False))

    def got(self):
        message = self.bus.recv(1.0)
        assert message is not None and message.arbitration_id == TESTER
        return bytes(message.data).hex(" ").upper()


def beside(do):
    """Do it on a thread, as the other end would; gives what ends it."""
    raised = []

    def run():
        try:
            do()
        except LinkError as error:
            raised.append(error)

    thread = threading.Thread(target=run)
    thread.start()

    def end():
        thread.join(5.0)
        assert not thread.is_alive()
        return raised

    return end


def test_a_single_frame_bears_its_length_and_is_filled_up(wire):
    line, far = wire
    line.specific_send(bytes.fromhex("10 03"))
    assert far.got() == f"02 10 03{f' {PADDING:02X}' * 5}"
    far.give("02 50 03 00 00 00 00 00")
    assert line.receive(1.0) == b"\x50\x03"


def test_a_long_message_waits_for_flow_control_and_counts_its_frames(wire):
    """20 bytes: first frame with 6 of them, then consecutive frames 1 and 2 with 7 each."""
    line, far = wire
    end = beside(lambda: line.specific_send(bytes(range(20))))
    assert far.got() == "10 14 00 01 02 03 04 05"
    assert far.bus.recv(0.05) is None
    far.give("30 00 00")
    assert far.got() == "21 06 07 08 09 0A 0B 0C"
    assert far.got() == "22 0D 0E 0F 10 11 12 13"
    assert end() == []


def test_a_long_answer_is_asked_for_and_put_together(wire):
    line, far = wire
    far.give("10 14 62 F1 90 57 30 31")
    got = []
    end = beside(lambda: got.append(line.receive(2.0)))
    assert far.got() == f"30 00 00{f' {PADDING:02X}' * 5}"
    far.give("21 32 33 34 35 36 37 38")
    far.give("22 39 41 42 43 44 45 46")
    assert end() == []
    assert got == [bytes.fromhex("62 F1 90 57 30 31 32 33 34 35 36 37 38 39 41 42 43 44 45 46")]


def test_block_size_and_separation_time_are_kept(wire):
    usual, far = wire
    clock = Clock()
    line = IsoTp(usual.bus, TESTER, UNIT, fd=False, clock=clock, sleep=clock.sleep)
    end = beside(lambda: line.specific_send(bytes(30)))
    far.got()
    far.give("30 02 14")  # two frames, 20 ms apart
    far.got()
    far.got()
    assert clock.now == pytest.approx(0.04)  # before each of the two, on the line's own clock
    assert far.bus.recv(0.1) is None
    far.give("30 00 00")
    assert far.got()[:2] == "23"
    assert far.got()[:2] == "24"
    assert end() == []


@pytest.mark.parametrize(
    ("at_s", "cancelled", "ends"),
    [(9.0, True, False), (11.0, False, False), (11.0, True, True), (181.0, False, True)],
)
def test_a_unit_that_asks_for_patience_is_waited_for_until_a_cancel_or_an_end(wire, at_s, cancelled, ends):
    """7F 36 78, response pending: a cancel counts after ten seconds, and after three minutes nobody waits any more."""
    usual, far = wire
    clock = Clock()
    line = IsoTp(usual.bus, TESTER, UNIT, fd=False, clock=clock, sleep=clock.sleep)
    line.cancelled = lambda: cancelled
    line.specific_send(bytes.fromhex("36 01"))
    far.got()
    clock.now = at_s
    far.give("03 7F 36 78 00 00 00 00")
    if ends:
        with pytest.raises(PendingError, match="needs more time") as told:
            line.specific_wait_frame(1.0)
        assert told.value.remedy
    else:
        assert line.specific_wait_frame(1.0) == bytes.fromhex("7F 36 78")


def test_wait_frames_are_waited_for(wire):
    line, far = wire
    end = beside(lambda: line.specific_send(bytes(10)))
    far.got()
    for _ in range(4):
        far.give("31 00 00")
        time.sleep(0.1)
    far.give("30 00 00")
    assert far.got()[:2] == "21"
    assert end() == []


@pytest.mark.parametrize("answer", ["32 00 00", None])
def test_an_overflow_and_a_silence_are_said(wire, answer):
    line, far = wire
    end = beside(lambda: line.specific_send(bytes(10)))
    far.got()
    if answer:
        far.give(answer)
    (error,) = end()
    assert isinstance(error, TransportError)
    assert "did not take a message of 10 bytes" in error.what and "cable" in error.remedy


@pytest.mark.parametrize(
    "frames", [["21 01 02 03 04 05 06 07"], ["00 01"], ["F0 00"], [""], ["08 01 02 03 04 05 06 07"]]
)
def test_frames_out_of_place_are_no_message(wire, frames):
    line, far = wire
    for text in frames:
        far.give(text)
    far.give("01 7E")
    assert line.receive(1.0) == b"\x7e"


def test_a_lost_frame_loses_the_message_and_not_the_next(wire):
    line, far = wire
    far.give("10 14 62 F1 90 57 30 31")
    end = beside(lambda: line.receive(0.3))
    far.got()
    far.give("22 39 41 42 43 44 45 46")
    end()
    far.give("01 7E")
    assert line.receive(1.0) == b"\x7e"


def test_frames_of_others_and_old_answers_are_not_heard(wire):
    line, far = wire
    far.give("02 7E 00", identifier=0x7E9)
    far.give("02 7E 00")
    time.sleep(0.02)
    line.empty_rxqueue()
    assert line.receive(0.05) is None
    with pytest.raises(TimeoutException):
        line.specific_wait_frame(0.01)


def test_a_bus_that_is_gone_is_said(wire):
    line, _ = wire
    line.bus.shutdown()
    with pytest.raises(TransportError, match="bus"):
        line.specific_send(b"\x3e\x00")
