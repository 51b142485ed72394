"""The stand-in board whose code runs on an emulated Cortex-M4F, with its link at the UART, against the board on the
host."""

import os
import signal
import subprocess
import time

import numpy as np
import pytest

from pendel.core.bench.bench import Bench
from pendel.core.bench.description import describe
from pendel.core.bench.errors import BenchProblem, StillEnabled
from pendel.core.bench.facts import BoardState, Order
from pendel.core.bench.standin_process import StandInProcess
from pendel.core.drive.file import to_text
from pendel.core.firmware.board_image import image_text
from pendel.core.firmware.processors import PACKAGES, missing_tools
from pendel.core.firmware.targets import HOST, M4F, UnknownTarget, image_for
from pendel.core.plant.integrate import integrate
from pendel.core.plant.program import RunSettings
from pendel.core.runs.preparing.simulate import prepare

from .test_bench import EXAMPLES, door, load, wait_for

emulated = pytest.mark.skipif(bool(missing_tools()), reason=f"no emulated processors here: install {PACKAGES}")


@pytest.fixture
def standing():
    """A stand-in board with the door drive around it, a bench, and what belongs to them."""
    drive = door("speed_pi.K_p")
    made = prepare(drive).lowered
    board, lost = StandInProcess(["tcp", "serial", "udp"]), []
    bench = Bench(lost.append)
    try:
        board.surround(to_text(drive), own_c=False)
        bench.connect(board.addresses[0], board.secret)
        yield board, bench, made, describe(drive, made), lost
    finally:
        bench.disconnect()
        board.close()


def children(pid):
    listed = (
        line.split()
        for line in subprocess.run(
            ["ps", "-eo", "pid,ppid,comm"], capture_output=True, text=True, check=True
        ).stdout.splitlines()[1:]
    )
    parents = {int(p): (int(q), name) for p, q, name in listed}

    def of(process):
        while process in parents:
            if process == pid:
                return True
            process = parents[process][0]
        return False

    return [p for p, (_, name) in parents.items() if name.startswith("qemu-system") and of(p)]


@emulated
def test_a_processor_runs_the_drive_as_the_host_does_to_the_bit(standing):
    """Loaded over the link, enabled, sampled at every tick: its numbers are those of an ordinary run, from its first
    tick enabled on. A value is written, and another program loaded over its own UART."""
    board, bench, made, description, _ = standing
    image = image_for(made, M4F)
    facts = bench.load(image)
    assert facts.checksum == description.checksum and facts.own_bytes == description.size
    assert bench.capability.identity.endswith("emulated Cortex-M4F")
    assert wait_for(lambda: board.status.get("processor")) == "Cortex-M4F"  # told by another process
    with pytest.raises(UnknownTarget):
        image_for(made, "z80")
    keys = ["speed_pi.out", "current_pi.out", "board:state", "board:ticks"]
    sampler, got = bench.sample([description.channel(k) for k in keys], 1), []
    wait_for(lambda: got.append(sampler.get()) or sum(map(len, got)) > 100)
    assert bench.order(Order.ENABLE).state is BoardState.ENABLED
    with pytest.raises(StillEnabled):
        bench.load(image)
    enabled = lambda: sum(np.count_nonzero(g.values[:, 2] == BoardState.ENABLED.value) for g in got)  # noqa: E731
    wait_for(lambda: got.append(sampler.get()) or enabled() > 2400, 60.0)
    bench.stop_sampling()
    values = np.concatenate([g.values for g in got])
    assert sampler.lost == 0 and np.all(np.diff(np.concatenate([g.ticks for g in got])) == 1)
    on = int(np.argmax(values[:, 2] == BoardState.ENABLED.value))
    first = int(values[on, 3])
    # The plant of the reference idles as long, then runs: what the host's board does, whose samples are checked
    # elsewhere.
    reference = on_host(made, door("speed_pi.K_p"), first, len(values) - on)
    assert np.array_equal(values[on:, :2], reference[: len(values) - on])
    assert np.ptp(values[on:, 1]) > 1.0
    assert bench.write_value(description, "speed_pi.K_p", 20.0) == 20.0
    bench.order(Order.IDLE)
    assert bench.load(image_for(made, HOST)).checksum == description.checksum
    assert bench.capability.identity.endswith("for the host") and not children(board.pid)


def on_host(made, drive, first, count):
    """Signals of the board on this computer that is enabled before a tick."""
    from pendel.core.bench.bench import give_key
    from pendel.core.bench.facts import order_bytes
    from pendel.core.bench.master import Master
    from pendel.core.bench.sampling import Sampler

    from .test_bench import InProcess

    there = InProcess(drive)
    channels = [there.description.channels[k] for k in ("speed_pi.out", "current_pi.out")]
    sampler = Sampler(channels, 1)
    master, got = Master(there, sampler.take), []
    try:
        master.connect()
        there.run(first)
        give_key(master)
        master.write(1, 20, order_bytes(Order.ENABLE))
        sampler.follow(master.sample([c.spot for c in channels], 1))
        master.start()
        for due in range(200, count + 200, 200):
            there.run(200)
            wait_for(lambda: got.append(sampler.get()) or sum(map(len, got)) >= due)
    finally:
        master.close()
    return np.concatenate([g.values for g in got])


@emulated
def test_what_goes_wrong_with_a_processor_is_said(standing, monkeypatch):
    board, bench, made, description, lost = standing
    wrong = image_for(prepare(load(EXAMPLES / "cabin_fan.pendel")).lowered, M4F)
    assert bench.load(wrong).empty
    assert "another drive" in wait_for(lambda: board.status.get("sentence"))
    image = image_for(made, M4F)
    serial = Bench()
    serial.connect(board.addresses[1], board.secret)
    assert serial.load(image).checksum == description.checksum
    serial.order(Order.ENABLE)
    found = children(board.pid)
    assert len(found) == 1
    os.kill(found[0], signal.SIGKILL)
    assert wait_for(
        lambda: "ended unexpectedly" in board.status.get("sentence", "")
    )  # in place of what was said before
    with monkeypatch.context() as quick, pytest.raises(BenchProblem):
        quick.setattr("pendel.core.bench.master.PATIENCE", 0.3)
        serial.facts()  # who it was connected to is gone
    assert serial.connect(board.addresses[1], board.secret).empty
    serial.disconnect()
    datagrams = Bench()
    datagrams.connect(board.addresses[2], board.secret)
    assert datagrams.load(image).empty
    assert "serial line alone" in wait_for(
        lambda: "serial" in board.status.get("sentence", "") and board.status["sentence"]
    )
    datagrams.disconnect()
    assert not children(board.pid)


@emulated
def test_a_controller_of_another_format_runs_there_too():
    """The haul drive, whose controller is in fixed point here and floating there, by what its machine does."""
    drive = load(EXAMPLES / "haul_drive.pendel")
    drive.settings["controller"] = "as shipped"
    prepared = prepare(drive)
    board, bench = StandInProcess(["tcp"]), Bench()
    try:
        board.surround(to_text(drive), own_c=False)
        bench.connect(board.addresses[0], board.secret)
        bench.load(image_for(prepared.lowered, M4F))
        description = describe(drive, prepared.lowered)
        bench.order(Order.ENABLE)
        sampler, got = bench.sample([description.channels["current_regulator.u_q"]], 4), []
        wait_for(lambda: got.append(sampler.get()) or sum(map(len, got)) > 200, 40.0)
        reference = integrate(prepared.program, prepared.inputs(RunSettings(0.1, h_max=1e-3)))
        column = reference.ticks[:, prepared.deck.signals.index("current_regulator.u_q")]
        assert np.max(np.abs(np.concatenate([g.values for g in got]))) > 0.2 * np.max(np.abs(column)) > 0
        assert bench.facts().faults == 0
    finally:
        bench.disconnect()
        board.close()
        time.sleep(0.1)
    assert not children(board.pid) and image_text(prepared.lowered)
