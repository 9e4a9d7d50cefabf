"""The bus between processes: every node hears all others, in order, and none that stopped holds the rest up."""

import os
import signal
import socket
import stat

import can
import pytest

from yarvic.core.errors import LinkError
from yarvic.core.link import buses
from yarvic.core.link.buses import VIRTUAL, BusChoice, interfaces, missing, open_bus
from yarvic.core.link.virtual_bus import VirtualBus, bus_folder, remove_channel, sweep


@pytest.fixture(autouse=True)
def own_bus(tmp_path_factory, monkeypatch):
    monkeypatch.setenv("YARVIC_BUS", str(tmp_path_factory.mktemp("b")))


@pytest.fixture
def nodes():
    made = [VirtualBus("test") for _ in range(3)]
    yield made
    for node in made:
        node.shutdown()


def frame(identifier=0x123, data=b"\x01\x02", **more):
    return can.Message(arbitration_id=identifier, data=data, is_extended_id=False, **more)


def test_a_frame_reaches_all_others_and_not_its_sender(nodes):
    one, *others = nodes
    sent = frame(data=bytes(range(64)), is_fd=True, bitrate_switch=True)
    one.send(sent)
    for other in others:
        assert other.recv(1.0).equals(sent, timestamp_delta=None, check_channel=False, check_direction=False)
    assert one.recv(0.0) is None


@pytest.mark.parametrize(
    "sent",
    [
        can.Message(arbitration_id=0x1ABCDEF0, is_extended_id=True, data=b"\xff" * 8),
        can.Message(arbitration_id=5, is_extended_id=False, is_remote_frame=True, dlc=4),
        can.Message(arbitration_id=0x7FF, is_extended_id=False, data=b""),
    ],
)
def test_every_kind_of_frame_comes_as_it_went(nodes, sent):
    nodes[0].send(sent)
    assert nodes[1].recv(1.0).equals(sent, timestamp_delta=None, check_channel=False, check_direction=False)


def test_channels_are_apart_and_filters_hold(nodes):
    with VirtualBus("other") as elsewhere, VirtualBus("test", [{"can_id": 7, "can_mask": 0x7FF}]) as picky:
        nodes[0].send(frame(6))
        nodes[0].send(frame(7))
        assert picky.recv(1.0).arbitration_id == 7
        assert elsewhere.recv(0.05) is None


def test_between_processes_frames_keep_their_order(nodes):
    for node in nodes[1:]:
        node.shutdown()
    child = os.fork()
    if child == 0:
        try:
            with VirtualBus("test") as bus:
                for n in range(2000):
                    bus.send(frame(data=n.to_bytes(4, "big")))
        finally:
            os._exit(0)
    got = [int.from_bytes(nodes[0].recv(5.0).data, "big") for _ in range(2000)]
    os.waitpid(child, 0)
    assert got == list(range(2000))


def test_a_node_of_a_killed_process_is_taken_away(nodes):
    ready, said = os.pipe()
    child = os.fork()
    if child == 0:
        try:
            kept = VirtualBus("test")
            os.write(said, b"x")
            signal.pause()
            kept.shutdown()
        finally:
            os._exit(0)
    os.close(said)
    assert os.read(ready, 1) == b"x"
    os.close(ready)
    folder = bus_folder() / "test"
    assert len(list(folder.iterdir())) == 4
    os.kill(child, signal.SIGKILL)
    os.waitpid(child, 0)
    nodes[0].send(frame())
    assert len(list(folder.iterdir())) == 3
    assert nodes[1].recv(1.0) is not None


def test_a_node_that_does_not_read_loses_frames_and_holds_nobody_up(nodes):
    one, reads, deaf = nodes
    deaf.recv(0.0)
    got = 0
    for n in range(500):
        one.send(frame(data=n.to_bytes(4, "big")))
        got += reads.recv(1.0) is not None
    assert got == 500
    assert one.lost > 400
    assert int.from_bytes(deaf.recv(0.0).data, "big") == 0


def test_what_is_no_frame_is_passed_over(nodes):
    one, other, _ = nodes
    other._socket.sendto(b"\x01", other._address(one._own))
    other._socket.sendto(bytes(200), other._address(one._own))
    other.send(frame(9))
    assert [m.arbitration_id if m else None for m in (one.recv(0.0) for _ in range(4))] == [None, None, 9, None]


def test_a_folder_that_others_may_write_is_no_bus(monkeypatch, tmp_path):
    open_to_all = tmp_path / "bus"
    open_to_all.mkdir()
    open_to_all.chmod(0o777)
    monkeypatch.setenv("YARVIC_BUS", str(open_to_all))
    with pytest.raises(LinkError, match="cannot be opened"):
        open_bus(BusChoice(channel="x"))
    monkeypatch.setenv("YARVIC_BUS", str(tmp_path / "new"))
    with open_bus(BusChoice(channel="x")):
        assert stat.S_IMODE((tmp_path / "new").stat().st_mode) == 0o700


def test_a_folder_of_any_length_will_do(monkeypatch, tmp_path):
    monkeypatch.setenv("YARVIC_BUS", str(tmp_path / ("long" * 50)))
    with VirtualBus("c" * 100) as one, VirtualBus("c" * 100) as other:
        one.send(frame(3))
        assert other.recv(1.0).arbitration_id == 3
    assert list(bus_folder().iterdir()) == []  # the last that leaves takes the channel away


@pytest.mark.parametrize("channel", ["", "../up", ".hidden", "a/b", "x" * 300])
def test_a_channel_that_cannot_be_is_said(channel):
    with pytest.raises(LinkError, match="cannot be opened"):
        open_bus(BusChoice(channel=channel))


def test_interfaces_are_python_cans_and_an_unknown_one_is_named():
    assert interfaces()[0] == VIRTUAL
    assert {"socketcan", "pcan", "slcan"} <= set(interfaces())
    with pytest.raises(LinkError, match="no interface is called 'teapot'") as told:
        open_bus(BusChoice("teapot", "0"))
    assert "socketcan" in told.value.remedy
    with pytest.raises(LinkError, match="cannot be opened") as told:
        open_bus(BusChoice("socketcan", "can77"))
    assert "adapter" in told.value.remedy


def test_an_interface_whose_package_is_missing_is_said_by_its_name(monkeypatch):
    monkeypatch.setattr(buses, "find_spec", lambda name: None)
    with pytest.raises(LinkError, match="slcan needs the package pyserial, which is not installed") as told:
        open_bus(BusChoice("slcan", "/dev/ttyACM0"))
    assert "pip install pyserial" in told.value.remedy
    assert missing("slcan") == "pyserial" and missing("socketcan") == "" and missing(VIRTUAL) == ""
    monkeypatch.undo()
    assert all(name in interfaces() for name in buses._NEEDS)


def test_an_interface_without_its_driver_is_said(monkeypatch):
    def none(**_):
        raise can.CanInterfaceNotImplementedError("no driver here")

    monkeypatch.setattr(can, "Bus", none)
    with pytest.raises(LinkError, match="the interface vector cannot be used on this computer") as told:
        open_bus(BusChoice("vector", "0"))
    assert "no driver here" in told.value.details


def test_a_closed_node_says_so(nodes):
    nodes[0].shutdown()
    with pytest.raises(can.CanOperationError):
        nodes[0].recv(0.0)


# -- what lies in the folder, and whose it is


def test_only_sockets_of_the_bus_are_ever_removed(tmp_path):
    node = VirtualBus("test")
    folder = bus_folder() / "test"
    (folder / "notes.txt").write_text("mine")
    (folder / "1-00000000").write_text("no socket")
    (folder / "2-00000000").symlink_to(folder / "notes.txt")
    foreign = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
    foreign.bind(os.path.relpath(folder / "other.sock"))
    foreign.close()  # nobody listens on it
    node.send(frame())
    sweep()
    kept = {"notes.txt", "1-00000000", "2-00000000", "other.sock"}
    assert {p.name for p in folder.iterdir()} >= kept
    remove_channel("test")
    assert {p.name for p in folder.iterdir()} == kept and (folder / "notes.txt").read_text() == "mine"
    node.shutdown()


def test_what_killed_nodes_left_is_swept_with_their_channels():
    pids = []
    for channel in ("one", "two"):
        pid = os.fork()
        if pid == 0:
            kept = VirtualBus(channel)
            assert kept
            os.kill(os.getpid(), signal.SIGKILL)
        os.waitpid(pid, 0)
        pids.append(pid)
    assert {p.name for p in bus_folder().iterdir()} >= {"two"}
    with VirtualBus("three") as node:
        assert [p.name for p in bus_folder().iterdir()] == ["three"]
        assert node.recv(0.0) is None
    assert list(bus_folder().iterdir()) == []


@pytest.mark.parametrize("where", ["the folder", "a channel"])
def test_a_link_is_no_folder_of_a_bus(monkeypatch, tmp_path, where):
    elsewhere = tmp_path / "elsewhere"
    elsewhere.mkdir(0o700)
    if where == "the folder":
        (tmp_path / "bus").symlink_to(elsewhere)
        monkeypatch.setenv("YARVIC_BUS", str(tmp_path / "bus"))
    else:
        (bus_folder() / "test").symlink_to(elsewhere)
    with pytest.raises(can.CanInitializationError, match="is a link"):
        VirtualBus("test")
    assert list(elsewhere.iterdir()) == []


@pytest.mark.parametrize("mode", [0o755, 0o770, 0o701])
def test_a_folder_that_is_open_to_others_is_no_bus(mode):
    bus_folder().chmod(mode)
    with pytest.raises(can.CanInitializationError, match="open to other accounts"):
        VirtualBus("test")
    folder = os.environ["YARVIC_BUS"]
    os.chmod(folder, 0o700)
    os.mkdir(f"{folder}/test")
    open(f"{folder}/test/kept", "w").close()  # an empty one is swept
    os.chmod(f"{folder}/test", mode)
    with pytest.raises(can.CanInitializationError, match="open to other accounts"):
        VirtualBus("test")


def as_another(act):
    """What an act gives in a process of another account: 0 for True, 1 for False, 2 where it is refused."""
    pid = os.fork()
    if pid == 0:
        code = 2
        try:
            os.setgroups([])
            os.setgid(65534)
            os.setuid(65534)
            code = 0 if act() else 1
        except can.CanError:
            code = 3
        except OSError:
            code = 2
        finally:
            os._exit(code)
    return os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1])


@pytest.mark.skipif(os.getuid() != 0, reason="only root can act as another account")
def test_another_account_on_the_machine_neither_joins_nor_makes_a_bus_for_us(monkeypatch, tmp_path):
    for folder in (tmp_path, *tmp_path.parents):
        with_way = stat.S_IMODE(folder.stat().st_mode) | 0o001
        if folder.owner() == "root" and folder != folder.parent and "pytest" in str(folder):
            folder.chmod(with_way)
    monkeypatch.setenv("YARVIC_BUS", str(tmp_path / "bus"))
    with VirtualBus("test") as node:
        name = next((bus_folder() / "test").iterdir())
        assert as_another(lambda: VirtualBus("test")) == 3  # it belongs to another account
        talk = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
        assert as_another(lambda: talk.sendto(b"x" * 8, str(name)) or True) == 2
        assert as_another(lambda: os.listdir(name.parent)) == 2
        talk.close()
        assert node.recv(0.0) is None
    # One that it has put there beforehand is refused by us.
    (tmp_path / "theirs").mkdir(0o777)
    (tmp_path / "theirs").chmod(0o777)
    assert as_another(lambda: os.mkdir(tmp_path / "theirs/bus", 0o700) is None) == 0
    monkeypatch.setenv("YARVIC_BUS", str(tmp_path / "theirs/bus"))
    with pytest.raises(can.CanInitializationError, match="belongs to another account"):
        VirtualBus("test")
