"""The bench: slave and master of the protocol, the simulated board, samples, trigger, records, descriptions."""

import contextlib
import ctypes
import math
import os
import signal
import socket
import struct
import subprocess
import sys
import tempfile
import threading
import time
import urllib.parse
from pathlib import Path
from random import Random
from types import SimpleNamespace

import can
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import pendel
from pendel.core.bench.bench import Bench, give_key
from pendel.core.bench.capture import Capture, CaptureState
from pendel.core.bench.description import describe, raw_channel
from pendel.core.bench.errors import (
    BenchProblem,
    BeyondEnds,
    LinkLost,
    NoAnswer,
    OtherCode,
    Refused,
    StillEnabled,
)
from pendel.core.bench.facts import SIZE, BoardState, Order, order_bytes, read_facts
from pendel.core.bench.keys import keyed
from pendel.core.bench.links import FRAMES, Stream, frame_length, open_link, read_address
from pendel.core.bench.master import Master, crc32
from pendel.core.bench.sampling import Sampler, Samples
from pendel.core.bench.standin_process import NoStandIn, StandInProcess
from pendel.core.bench.trigger import Condition, Mode, Scope, Trigger
from pendel.core.controllers.numbers.source import files
from pendel.core.drive.file import load, to_text
from pendel.core.firmware.a2l import a2l_of
from pendel.core.firmware.board_image import checksum_of, image_text, protocol
from pendel.core.firmware.places import code_places, offset_checks
from pendel.core.firmware.ship import write_sources
from pendel.core.formats.mdf4 import Mdf4Writer
from pendel.core.live.board import RING, Flash, idle_commands, world_of
from pendel.core.live.frames import thinned
from pendel.core.live.pace import Pace
from pendel.core.plant.compiler import build_library
from pendel.core.plant.integrate import integrate
from pendel.core.plant.program import RunSettings
from pendel.core.plant.recorded import Ring
from pendel.core.plant.runtime import load as load_library
from pendel.core.plant.simulator import Simulator
from pendel.core.runs.preparing.simulate import prepare
from pendel.core.temporary import temporary_folder
from pendel.core.verbs import live_values

EXAMPLES = Path(pendel.__file__).parent / "examples"
FRAMINGS = {
    "ethernet": (0, 255, 1400),
    "udp": (3, 255, 1400),
    "serial": (1, 250, 250),
    "can": (2, 8, 8),
    "can fd": (2, 64, 64),
}


def door(*live):
    drive = load(EXAMPLES / "car_door_drive.pendel")
    drive.settings["controller"] = "as shipped"
    if live:
        live_values(drive, wished=live)
    return drive


class InProcess:
    """A board in this process, and a link to it without a wire: what is sent is answered before it is received."""

    def __init__(self, drive, framing="ethernet", secret=b""):
        self.prepared = prepare(drive)
        self.made = self.prepared.lowered
        self.description = describe(drive, self.made)
        self.library = load_library(image_text(self.made))
        self.library.pd_image_join.restype = self.library.pd_image_take.restype = None
        inputs = self.prepared.inputs(RunSettings(1e9, h_max=1e-3))
        self.simulator = Simulator(self.prepared.program, inputs, ring=Ring(10_000, 10_000), controller=self.library)
        self.at = ctypes.c_void_p(self.simulator.controller[1])
        self.kind, cto, dto = FRAMINGS[framing]
        self.memory = ctypes.create_string_buffer(1 << 17)
        self.flash = Flash(ctypes.addressof(self.memory), 1 << 17)
        if secret:
            self.flash.secret[0], self.flash.secret[1] = struct.unpack("<QQ", secret)
        self.library.pd_image_join(self.at, ctypes.byref(self.flash), self.kind, cto, dto)
        idle = np.ascontiguousarray(idle_commands(self.prepared))
        self.library.pd_image_idle(self.at, ctypes.c_void_p(idle.ctypes.data))
        self.stream = Stream(summed=self.kind == 1)
        self.address, self.closed = "in process", threading.Event()
        self.room = ctypes.create_string_buffer(1 << 16)
        self.lock = threading.Lock()

    def send(self, packet):
        data = self.filled(packet) if self.kind == 2 else self.stream.framed(packet)
        with self.lock:
            self.library.pd_image_take(self.at, data, len(data))

    def receive(self):
        found = []
        with self.lock:
            while (count := self.library.pd_image_give(self.at, self.room, len(self.room))) > 0:
                data = self.room.raw[:count]
                found += [self.filled(data)] if self.kind == 2 else self.stream.packets(data)
        if not found:
            time.sleep(1e-4)
        return found

    @staticmethod
    def filled(frame):
        """A frame of CAN FD has one of some lengths only (ISO 11898-1, DLC 9 to 15); what fills it can be anything."""
        return frame.ljust(frame_length(len(frame)), b"\xaa")

    def close(self):
        self.closed.set()

    def run(self, ticks):
        with self.lock:
            self.simulator.advance(self.simulator.time + ticks * self.description.tick * (1 - 1e-9))


@pytest.mark.parametrize("framing", FRAMINGS)
def test_what_a_board_sends_is_what_the_run_has_to_the_bit(framing):
    """Samples over any framing, and a record at full rate, against an ordinary run with the shipped controller."""
    board = InProcess(door(), framing)
    description, made = board.description, board.prepared
    reference = integrate(made.program, made.inputs(RunSettings(0.12, h_max=1e-3)))
    keys = [k for k, c in description.channels.items() if c.signal and ":" not in k]
    columns = [made.deck.signals.index(k) for k in keys]
    channels, watched = [description.channels[k] for k in keys], keys.index("speed_pi.out")
    sampler = Sampler(channels, 1)
    master = Master(board, sampler.take)
    try:
        assert master.connect().tick == pytest.approx(description.tick, rel=1e-12)
        give_key(master)
        master.write(1, 20, order_bytes(Order.ENABLE))
        trigger = Trigger(Mode.NORMAL, Condition.RISES, watched, 0.0, 1.0)
        record = Capture(master, channels, trigger, 300, 1, description.tick, 1 << 20)
        record.begin()
        sampler.follow(master.sample([c.spot for c in channels], 1))
        master.start()
        got = []
        for due in range(200, 2001, 200):
            board.run(200)
            wait_for(lambda: got.append(sampler.get()) or sum(map(len, got)) >= due)
        assert record.state() is CaptureState.FULL
        frame = record.fetch()
    finally:
        master.close()
    values = np.concatenate([g.values for g in got])
    assert np.array_equal(np.concatenate([g.ticks for g in got])[:2000], np.arange(2000)) and sampler.lost == 0
    assert np.array_equal(values[:2000], reference.ticks[:2000, columns])
    at = int(np.argmax(reference.ticks[:, columns[watched]] > 1.0))
    assert frame.at == at and frame.times[75] == 0.0
    assert np.array_equal(frame.values, reference.ticks[at - 75 : at + 225, columns])


def test_values_state_and_loading_follow_the_rules_of_the_board():
    secret = bytes(range(16))
    board = InProcess(door("speed_pi.K_p"), secret=secret)
    master = Master(board)
    live = board.description.values["speed_pi.K_p"]
    try:
        master.connect()
        spot = live.channel.spot
        for wished, becomes in ((50.0, 50.0), (1e9, np.float32(live.high)), (-1.0, np.float32(live.low))):
            master.write(0, spot.address, struct.pack("<f", wished))
            assert struct.unpack("<f", master.read(0, spot.address, 4))[0] == becomes  # the code limits it
        with pytest.raises(Refused):
            master.read(0, board.description.size - 2, 4)  # beyond the controller's struct
        with pytest.raises(Refused):
            master.write(1, 4, b"\0" * 4)  # its checksum
        assert master.checksum(0, 0, board.description.size) == crc32(master.read(0, 0, board.description.size))
        with pytest.raises(Refused) as locked:
            master.load(b"code")
        assert locked.value.code == 0x25
        with pytest.raises(Refused):
            master.unlock(bytes(16))
        master.connect()
        master.unlock(secret)
        give_key(master)
        master.write(1, 20, order_bytes(Order.ENABLE))
        with pytest.raises(Refused):
            master.load(b"code")
        board.run(200)
        master.write(1, 20, order_bytes(Order.TRIP))
        give_key(master)
        master.write(1, 20, order_bytes(Order.ENABLE))  # a fault must be acknowledged first
        facts = read_facts(master.read(1, 0, SIZE))
        assert (facts.state, facts.faults, facts.refused, facts.ticks) == (BoardState.FAULT, 1, 1, 200)
        board.run(3)
        assert board.simulator.since(0, 0).ticks[-1][board.prepared.deck.signals.index("speed_pi.out")] == 0.0
        # Set back to its start, but for live values.
        assert struct.unpack("<f", master.read(0, spot.address, 4))[0] == np.float32(live.low)
        master.load(b"a program" * 100)
        assert (board.flash.filled, board.flash.ended, board.flash.restarts) == (900, 1, 1)
        assert board.memory.raw[:900] == b"a program" * 100
    finally:
        master.close()


FUZZ = r"""
#include "pd_board.h"
#include "pd_link.h"
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static uint8_t own[64], record[512], queue[700];
static pd_board_t board;
static pd_xcp_t xcp;
static uint64_t seed = 88172645463325252u;
static uint32_t chance(uint32_t n) {
    seed ^= seed << 13; seed ^= seed >> 7; seed ^= seed << 17;
    return (uint32_t)(seed % n); }

static pd_xcp_code_t program(void *b, pd_program_t step, uint32_t at, const uint8_t *data, uint32_t bytes)
{
    (void)b; (void)step;
    if (data != 0 && (at > 64u || bytes > 64u - at)) return PD_XCP_RANGE;
    if (data != 0) memcpy(own + at, data, bytes);
    return PD_XCP_OK;
}

int main(void)
{
    static const uint8_t codes[] = {0xFF,0xFE,0xFD,0xFC,0xFB,0xFA,0xF8,0xF7,0xF6,0xF5,0xF4,0xF3,0xF0,0xEE,0xED,0xE3,
        0xE2,0xE1,0xE0,
        0xDF,0xDE,0xDD,0xDC,0xDB,0xDA,0xD9,0xD7,0xD6,0xD5,0xD4,0xD3,0xD2,0xD1,0xD0,0xCF,0xCE,0xC9};
    static const pd_xcp_board_t port = {&board, "board", 50000u, pd_board_reach, pd_board_written, pd_board_ticks,
        program, 0, 0};
    uint32_t k, j, answers = 0u;
    pd_link_t link;
    board.facts.own_bytes = 64u; board.facts.record_bytes = 512u;
    board.own = own; board.record = record; board.xcp = &xcp;
    pd_xcp_init(&xcp, &port, queue, sizeof queue, 64u, 96u);
    pd_link_init(&link, &xcp, PD_LINK_SERIAL);
    for (k = 0u; k < 1000000u; k++) {
        uint8_t *packet = malloc(70u), *out;
        uint32_t n = 1u + chance(68u), whole;
        for (j = 0u; j < n; j++) packet[j] = (uint8_t)(chance(3u) ? chance(6u) : chance(256u));
        packet[0] = (uint8_t)(chance(8u) ? codes[chance(sizeof codes)] : chance(256u));
        if (chance(4u) && xcp.connected == 0u) packet[0] = 0xFFu;
        packet = realloc(packet, n);   /* so that the sanitizer sees a byte too many */
        if (chance(10u)) pd_xcp_command(&xcp, packet, n); else pd_link_take(&link, packet, n);
        free(packet);
        if (chance(2u)) pd_board_ticked(&board);
        while ((whole = 1u + chance(130u), out = malloc(whole), n = pd_link_give(&link, out, whole)) > 0u) {
            if (n > whole) return 1;
            answers++;
            free(out);
        }
        free(out);
    }
    printf("%u %u %u\n", answers, board.facts.ticks, xcp.lost);
    return answers > 1000u ? 0 : 2;
}
"""


def test_a_slave_stands_a_million_packets_of_nonsense(tmp_path):
    for name, text in protocol().items():
        (tmp_path / name).write_text(text)
    (tmp_path / "fuzz.c").write_text(FUZZ)
    strict = ["-std=c99", "-O1", "-g", "-Wall", "-Wextra", "-Wconversion", "-pedantic", "-Werror"]
    for name in ("pd_xcp.c", "pd_link.c", "pd_board.c"):
        subprocess.run(["gcc", *strict, "-c", name], cwd=tmp_path, check=True)
    sanitized = ["-fsanitize=address,undefined", "-fno-sanitize-recover=all"]
    sources = ["fuzz.c", "pd_xcp.c", "pd_link.c", "pd_board.c"]
    subprocess.run(["gcc", "-std=c99", "-O1", "-g", *sanitized, *sources, "-o", "fuzz"], cwd=tmp_path, check=True)
    environment = {**os.environ, "ASAN_OPTIONS": "detect_leaks=0"}
    ended = subprocess.run(["./fuzz"], cwd=tmp_path, capture_output=True, text=True, timeout=120, env=environment)
    assert ended.returncode == 0, ended.stdout + ended.stderr


def test_keys_are_those_of_the_published_function():
    """Aumasson, Bernstein: reference vectors of SipHash-2-4 (from memory), input 00 … 07, key 00 … 0f."""
    assert keyed(bytes(range(16)), int.from_bytes(bytes(range(8)), "little")) == 0x93F5F5799A932462


@settings(max_examples=60, deadline=None)
@given(st.data())
def test_streams_find_their_packets_between_garbage(data):
    summed = data.draw(st.booleans())
    sender, receiver = Stream(summed=summed), Stream(summed=summed)
    packets = data.draw(st.lists(st.binary(min_size=1, max_size=300), max_size=8))
    whole = b"".join(sender.framed(p) for p in packets)
    cuts = sorted(data.draw(st.lists(st.integers(0, len(whole)), max_size=6)))
    parts = [whole[a:b] for a, b in zip([0, *cuts], [*cuts, len(whole)])]
    assert [p for part in parts for p in receiver.packets(part)] == packets
    receiver.packets(data.draw(st.binary(max_size=2000)))  # whatever it is, it ends


def frames_by_force(y, trigger, samples, every):
    """All frames of a record, found by looking at each sample in turn."""
    before, found, earliest, k = min(samples - 1, round(trigger.before * samples)), [], 0, 1
    conditions = {
        Condition.RISES: lambda a, b: a <= trigger.high < b,
        Condition.FALLS: lambda a, b: a >= trigger.low > b,
        Condition.LEAVES: lambda a, b: trigger.low <= a <= trigger.high and not trigger.low <= b <= trigger.high,
        Condition.ENTERS: lambda a, b: not trigger.low <= a <= trigger.high and trigger.low <= b <= trigger.high,
        Condition.CHANGES: lambda a, b: a != b,
    }
    while k < len(y):
        good = k >= before and k * every >= earliest and conditions[trigger.condition](y[k - 1], y[k])
        if good and k - before + samples <= len(y):
            found.append(k)
            earliest = k * every + round(trigger.hold_off)
            k = k - before + samples
        else:
            k += 1
    return found, before


@settings(max_examples=80, deadline=None)
@given(st.data())
def test_the_trigger_finds_what_looking_at_each_sample_finds(data):
    rng = np.random.default_rng(data.draw(st.integers(0, 10**6)))
    y = np.cumsum(rng.integers(-1, 2, size=300)).astype(float)
    low = float(data.draw(st.integers(-3, 3)))
    trigger = Trigger(
        data.draw(st.sampled_from([Mode.NORMAL, Mode.SINGLE])),
        data.draw(st.sampled_from([c for c in Condition if c is not Condition.AT_ONCE])),
        0,
        low,
        low + data.draw(st.integers(0, 3)),
        data.draw(st.sampled_from([0.0, 0.3, 1.0])),
        float(data.draw(st.sampled_from([0, 50]))),
    )
    samples, every = data.draw(st.integers(2, 60)), data.draw(st.sampled_from([1, 3]))
    scope, got, at = Scope(trigger, samples, 1.0), [], 0
    while at < len(y):
        step = int(rng.integers(1, max(2, samples - scope.before)))  # one frame at most each time
        part = slice(at, at + step)
        frame = scope.add(Samples(np.arange(len(y))[part] * every, y[part, None]))
        at += step
        if frame is not None:
            got.append(frame)
    expected, before = frames_by_force(y, trigger, samples, every)
    expected = expected[:1] if trigger.mode is Mode.SINGLE else expected
    assert [f.at // every for f in got] == expected
    for frame, k in zip(got, expected):
        assert np.array_equal(frame.values[:, 0], y[k - before : k - before + samples])
        assert frame.times[before] == 0.0


def test_lost_samples_are_counted_over_the_end_of_the_counter():
    channel = raw_channel("0:0 int16")
    sampler = Sampler([channel], 2)
    plan = type("Plan", (), {"first": 3, "lengths": (7,), "places": (5,), "time_at": 1, "record": 7})()
    sampler.follow(plan)
    ticks = [2**32 - 6, 2**32 - 4, 2**32 - 2, 0, 2, 8, 10]  # 4 and 6 are missing
    sampler.take([struct.pack("<BIh", 3, t, -5) for t in ticks[:4]])
    first = sampler.get()
    sampler.take([struct.pack("<BIh", 3, t, 7) for t in ticks[4:]] + [b"\x03short"])
    second = sampler.get()
    assert np.array_equal(np.diff(np.concatenate([first.ticks, second.ticks])), [2, 2, 2, 2, 6, 2])
    assert (sampler.lost, sampler.garbled) == (2, 1) and set(second.values[:, 0]) == {7.0}


def test_a_ring_keeps_the_latest_rows_of_an_endless_run():
    prepared = prepare(load(EXAMPLES / "car_door_drive.pendel"))
    whole = integrate(prepared.program, prepared.inputs(RunSettings(1.0, h_max=1e-3)))
    with Simulator(prepared.program, prepared.inputs(RunSettings(1e9, h_max=1e-3)), ring=Ring(750, 625)) as run:
        rows, ticks, at_row, at_tick = [], [], 0, 0
        for until in np.arange(0.02, 1.0001, 0.02):
            run.advance(until)
            latest = run.since(at_row, at_tick)
            assert (latest.first_row, latest.first_tick) == (at_row, at_tick)
            rows.append(latest.rows)
            ticks.append(latest.ticks)
            at_row, at_tick = at_row + len(latest.rows), at_tick + len(latest.ticks)
        assert len(run.since(0, 0).rows) <= 3000 and len(run.since(0, 0).ticks) <= 2500
    rows, ticks = np.concatenate(rows), np.concatenate(ticks)
    count = min(len(ticks), len(whole.ticks)) - 1
    assert count > 19_990 and np.array_equal(ticks[:count], whole.ticks[:count])
    assert np.array_equal(rows[: len(whole.rows) - 2], whole.rows[: len(rows)][: len(whole.rows) - 2])


@pytest.mark.parametrize("name", ["car_door_drive", "haul_drive", "old_haul_drive"])
@pytest.mark.parametrize("number", ["float64", "as drawn"])
def test_places_of_numbers_are_those_of_the_compiler(name, number, tmp_path):
    drive = load(EXAMPLES / f"{name}.pendel")
    if number != "as drawn":
        drive.settings["number_format"] = number
    made = prepare(drive).lowered
    for file, text in files(made).texts.items():
        (tmp_path / file).write_text(text)
    (tmp_path / "check.c").write_text(f'#include "{made.name}.h"\n#include <stddef.h>\n{offset_checks(made)}')
    subprocess.run(["gcc", "-std=c99", "-c", "check.c"], cwd=tmp_path, check=True)
    text = a2l_of(made, describe(drive, made))
    for place in code_places(made):
        assert f"{made.name}.{place.member} " in text


def test_a_hostile_name_stays_a_string_in_a_description():
    drive = door("speed_pi.K_p")
    drive.cards["speed_pi"] = drive.cards["speed_pi"].__class__(
        **{**vars(drive.cards["speed_pi"]), "name": '" /end MODULE \\" \n/include "x'}
    )
    made = prepare(drive).lowered
    text = a2l_of(made, describe(drive, made))
    for line in text.splitlines():
        assert line.count('"') % 2 == 0
        outside = "".join(line.split('"')[::2])
        assert "/include" not in outside and outside.count("/end") <= 1


def test_what_is_recorded_is_in_the_file(tmp_path):
    """MDF 4.1 by the layout of its blocks (ASAM MDF part 1; asammdf reads it in the outside checks)."""
    t = np.arange(500) * 1e-3
    values = np.column_stack([np.sin(t), t**2])
    with Mdf4Writer(tmp_path / "a.mf4", [("door.speed", "m/s"), ("µ & <b>", "°")], "note <&>") as file:
        file.write(t[:200], values[:200])
        file.write(t[200:], values[200:])
    data = (tmp_path / "a.mf4").read_bytes()

    def block(at):
        kind, length, links = struct.unpack_from("<4s4xQQ", data, at)
        return kind, struct.unpack_from(f"<{links}Q", data, at + 24), at + 24 + 8 * links, at + length

    assert data[:16] == b"MDF     4.10    " and block(64)[0] == b"##HD"
    group = block(block(64)[1][0])
    channels, (_, _, begin, end) = block(group[1][1]), block(group[1][2])
    rows = np.frombuffer(data[begin:end], "<f8").reshape(-1, 3)
    assert np.array_equal(rows, np.column_stack([t, values]))
    assert struct.unpack_from("<Q", data, channels[2] + 8)[0] == 500
    names, at = [], channels[1][1]
    while at:
        kind, links, begin, _ = block(at)
        assert kind == b"##CN"
        text = block(links[2])
        names.append((data[text[2] : text[3]].rstrip(b"\0").decode(), struct.unpack_from("<BBBBI", data, begin)))
        at = links[0]
    assert [n for n, _ in names] == ["time", "door.speed", "µ & <b>"]
    assert names[0][1][:3] == (2, 1, 4) and [about[4] for _, about in names] == [0, 8, 16]


def test_a_stand_in_board_is_loaded_changed_killed_and_says_so():
    """The whole way in processes of their own: what a user does, and what can go wrong on it."""
    drive, other = door("speed_pi.K_p"), load(EXAMPLES / "cabin_fan.pendel")
    made = prepare(drive).lowered
    description, lost = describe(drive, made), []
    board = StandInProcess(["tcp", "serial"])
    bench = Bench(lost.append)
    try:
        board.surround(to_text(drive), own_c=False)
        assert bench.connect(board.addresses[0], board.secret).empty
        with pytest.raises(OtherCode):
            bench.must_match(description)
        wrong = build_library(image_text(prepare(other).lowered)).read_bytes()
        assert bench.load(wrong).empty and "another drive" in wait_for(lambda: board.status.get("sentence"))
        image = build_library(image_text(made)).read_bytes()
        assert bench.load(b"no program at all").empty
        assert bench.load(image).checksum == description.checksum == checksum_of(made)
        with pytest.raises(BeyondEnds, match="goes from"):
            bench.write_value(description, "speed_pi.K_p", 1e6)
        assert bench.write_value(description, "speed_pi.K_p", 20.0) == 20.0
        # A changed start of a live value is the same code; a changed constant is not.
        assert checksum_of(prepare(door("speed_pi.K_p")).lowered) == description.checksum
        changed = door("speed_pi.K_p")
        changed.cards["speed_pi"] = changed.cards["speed_pi"].with_value("T_i", "71 ms")
        assert checksum_of(prepare(changed).lowered) != description.checksum
        sampler = bench.sample([description.channels["speed_pi.out"], description.channel("0:0 uint32")], 5)
        assert bench.order(Order.ENABLE).state is BoardState.ENABLED
        with pytest.raises(StillEnabled):
            bench.load(image)
        got = []
        wait_for(lambda: got.append(sampler.get()) or sum(map(len, got)) > 400)
        assert sampler.lost == 0 and max(np.abs(g.values[:, 0]).max(initial=0.0) for g in got) > 1.0
        serial = Bench()
        serial.connect(board.addresses[1], board.secret)  # whoever speaks last is served
        assert serial.facts().checksum == description.checksum
        serial.disconnect()
        os.kill(board.pid, signal.SIGKILL)
        wait_for(lambda: lost)
        assert isinstance(lost[0], LinkLost)
        with pytest.raises(BenchProblem):
            bench.facts()
    finally:
        bench.disconnect()
        board.close()
    assert not [t for t in threading.enumerate() if t.name in ("bench link", "stand-in board")]
    left = list(Path(tempfile.gettempdir()).glob(f"pendel-board-{board.pid}-*"))
    with temporary_folder("board"):  # whoever needs the next one removes what a killed process could not
        assert left and not [path for path in left if path.exists()]


def wait_for(condition, seconds=20.0):
    until = time.monotonic() + seconds
    while not (found := condition()) and time.monotonic() < until:
        time.sleep(0.01)
    assert found
    return found


@pytest.mark.parametrize(
    ("address", "words"),
    [
        ("tcp://nowhere", "port"),
        ("tcp://127.0.0.1:99999", "port"),
        ("gopher://x", "begin"),
        ("serial://", "names no port"),
        ("serial:///dev/no_such_port", "cannot be opened"),
        ("can://nonsense:x", "cannot be opened"),
        ("can://virtual:x?to=much", "whole number"),
        ("tcp://127.0.0.1:9", "cannot be opened"),
    ],
)
def test_an_address_that_leads_nowhere_gets_a_sentence(address, words):
    with pytest.raises(BenchProblem, match=words):
        open_link(read_address(address))


def test_a_silent_board_is_given_up(monkeypatch):
    monkeypatch.setattr("pendel.core.bench.master.PATIENCE", 0.1)
    silent = SimpleNamespace(send=lambda packet: None, receive=lambda: time.sleep(0.01) or [], close=lambda: None)
    master = Master(silent)
    with pytest.raises(NoAnswer, match="did not answer"):
        master.ask("anything", b"\xff", patience=0.1)
    master.close()


class BadLine(InProcess):
    """Some commands are lost on it, some answers too, and some come only when the next command is sent."""

    def __init__(self, chance):
        super().__init__(door())
        self.chance, self.late, self.due = chance, [], []

    def send(self, packet):
        with self.lock:
            self.due, self.late = self.due + self.late, []
        if self.chance.random() >= 0.15:
            super().send(packet)

    def receive(self):
        packets = super().receive()
        with self.lock:
            for packet in packets:
                fate = self.chance.random()
                if fate > 0.15:  # none overtakes another
                    (self.late if fate < 0.4 or self.late else self.due).append(packet)
            due, self.due = self.due, []
        return due


def test_no_answer_is_taken_for_that_to_another_question(monkeypatch):
    """A late answer must not pass for that of the command after: the number read would be one of another place."""
    monkeypatch.setattr("pendel.core.bench.master.PATIENCE", 0.04)
    board = BadLine(Random(0))
    master, answered, silent = Master(board), 0, 0
    try:
        whole = retried(lambda: retried(master.connect) and master.read(1, 0, SIZE))
        for _ in range(80):
            begin, count = board.chance.randrange(SIZE - 8), board.chance.randrange(1, 8)
            try:
                assert master.read(1, begin, count) == whole[begin : begin + count]
                answered += 1
            except NoAnswer:
                silent += 1
    finally:
        master.close()
    assert answered > 10 and silent > 10 and master.stray > 3


def retried(action, times=200):
    for _ in range(times):
        with contextlib.suppress(NoAnswer):
            return action()
    raise AssertionError("never answered")


def test_what_an_own_board_needs_compiles_strictly_and_answers(tmp_path):
    """The slave beside the controller as `pendel c --board` writes it: a master reads and writes it over pipes."""
    drive = door("speed_pi.K_p")
    made, folder = prepare(drive).lowered, tmp_path / "c"
    write_sources(made, folder, drive, board=True)
    main = """#include "car_door_drive_board.h"
#include <unistd.h>
int main(void)
{
    static uint8_t bytes[4096];
    ssize_t n;
    car_door_drive_board_start(PD_LINK_ETHERNET, 255u, 1000u);
    while ((n = read(0, bytes, sizeof bytes)) > 0) {
        uint32_t count;
        car_door_drive_board_take(bytes, (uint32_t)n);
        (void)car_door_drive_board_tick();
        count = car_door_drive_board_give(bytes, sizeof bytes);
        if (write(1, bytes, count) < 0) { return 1; }
    }
    return 0;
}
"""
    (folder / "host.c").write_text(main)
    own = ["car_door_drive_board.c", "car_door_drive.c", "pd_xcp.c", "pd_link.c", "pd_board.c", "pd_numbers.c"]
    strict = ["gcc", "-std=c99", "-O2", "-Wall", "-Wextra", "-Wconversion", "-pedantic", "-Werror"]
    for name in own:
        subprocess.run([*strict, "-c", name], cwd=folder, check=True)
    subprocess.run(["gcc", "host.c", *own, "-o", "host", "-lm"], cwd=folder, check=True)
    process = subprocess.Popen([folder / "host"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, bufsize=0)

    class Pipes:
        address, stream = "pipes", Stream(summed=False)

        def send(self, packet):
            process.stdin.write(self.stream.framed(packet))

        def receive(self):
            data = os.read(process.stdout.fileno(), 4096)
            if not data:
                raise LinkLost(self.address)
            return self.stream.packets(data)

        def close(self):
            process.stdin.close()

    master, description = Master(Pipes()), describe(drive, made)
    try:
        assert master.connect().identity == "car_door_drive"
        facts = read_facts(master.read(1, 0, SIZE))
        assert (facts.checksum, facts.own_bytes) == (description.checksum, description.size)
        spot = description.values["speed_pi.K_p"].channel.spot
        master.write(0, spot.address, struct.pack("<f", 77.0))
        assert struct.unpack("<f", master.read(0, spot.address, 4))[0] == 77.0
    finally:
        master.close()
        assert process.wait(10) == 0
        process.stdout.close()


def test_the_terminal_serves_a_board_until_it_is_stopped(tmp_path):
    path = EXAMPLES / "car_door_drive.pendel"
    command = [sys.executable, "-m", "pendel.cli.main", "board", str(path), "--link", "tcp", "--link", "udp"]
    # It is ignored where tests run in the background.
    hear = lambda: signal.signal(signal.SIGINT, signal.default_int_handler)  # noqa: E731
    process = subprocess.Popen(
        command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, start_new_session=True, preexec_fn=hear
    )
    try:
        lines = [process.stdout.readline().split()[-1] for _ in range(2)]
        bench = Bench()
        facts = bench.connect(lines[1])
        assert facts.checksum == checksum_of(prepare(load(path)).lowered) and facts.state is BoardState.IDLE
        bench.disconnect()
        os.killpg(process.pid, signal.SIGINT)  # as a terminal does
        assert process.wait(20) == 0
        assert process.stderr.read() == ""
    finally:
        process.kill()
        process.communicate()
    refused = subprocess.run([*command[:-4], "--link", "smoke"], capture_output=True, text=True)
    assert refused.returncode != 0 and "no kind of link" in refused.stderr


@pytest.mark.parametrize("level", ["switching", "averaged"])
def test_an_idle_power_stage_leaves_its_machine_and_grid_alone(level):
    """Gates that are off carry no current; an averaged converter has none, and gives no voltage on average."""
    drive = load(EXAMPLES / "valley_feeder.pendel")
    drive.settings |= {"controller": "as shipped", "level": level}
    board = InProcess(drive)
    board.run(800)
    rows = board.simulator.since(0, 0).rows
    rows = rows[rows[:, 0] > 5e-3]  # before its first tick has acted, commands are 0, as in any run
    current = rows[:, 1 + board.prepared.structure.state_keys.index("choke.i")]
    assert np.all(np.isfinite(current))
    if level == "switching":
        assert np.max(np.abs(current)) < 0.01
    else:
        assert idle_commands(board.prepared) == pytest.approx([0.5])


def test_the_first_start_on_a_computer_answers_at_once(tmp_path, monkeypatch):
    """With nothing compiled before: who has the address is answered within a link's patience."""
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    board, bench = StandInProcess(["tcp"]), Bench()
    try:
        assert bench.connect(board.addresses[0]).empty
        os.kill(board.pid, signal.SIGKILL)  # while it is asked for more, nobody waits for what cannot come
        with pytest.raises(NoStandIn, match="it has ended"):
            board.surround(to_text(door("speed_pi.K_p")), own_c=False)
        assert not board.alive
    finally:
        bench.disconnect()
        board.close()


@pytest.mark.parametrize(("level", "least"), [("averaged", 0.1), ("switching", 1e-5)])
def test_an_idle_power_stage_gives_nothing_from_the_first_instant_on(level, least):
    drive, currents = load(EXAMPLES / "valley_feeder.pendel"), []
    drive.settings["level"] = level
    world = world_of(to_text(drive), own_c=False)
    for begins in (False, True):
        with Simulator(world.program, world.inputs, ring=RING) as simulator:
            if begins:
                simulator.begin_with(world.idle)
            simulator.advance(0.9 * world.inputs.tick)
            currents.append(abs(simulator.read(["choke.current"])["choke.current"]))
    assert currents[0] > 6 and currents[1] < least, "zeros are the full voltage downwards"


@pytest.mark.parametrize("fd", [0, 1])
def test_a_board_on_a_can_bus_is_loaded_written_and_sampled(fd):
    """Over python-can's bus within a process, whose frames have lengths that frames of CAN have."""
    board = InProcess(door("speed_pi.K_p"), "can fd" if fd else "can")
    bus = can.Bus(interface="virtual", channel="pendel-test", fd=bool(fd))
    lengths, ended = set(), threading.Event()

    def serve():
        while not ended.is_set():
            frame = bus.recv(0.01)
            if frame is not None and frame.arbitration_id == 0x600:
                lengths.add(frame.dlc)
                board.send(bytes(frame.data))
            for answer in board.receive():
                bus.send(can.Message(arbitration_id=0x601, data=answer, is_fd=bool(fd), is_extended_id=False))

    served = threading.Thread(target=serve)
    served.start()
    channels = [board.description.channels[k] for k in ("speed_pi.out", "current_pi.out")]
    sampler = Sampler(channels, 20)
    master = Master(open_link(read_address(f"can://virtual:pendel-test?to=0x600&from=0x601&fd={fd}")), sampler.take)
    try:
        master.connect()
        spot = board.description.values["speed_pi.K_p"].channel.spot
        master.write(0, spot.address, struct.pack("<f", 44.0))
        assert struct.unpack("<f", master.read(0, spot.address, 4))[0] == 44.0
        assert len(master.read(0, 0, board.description.size)) == board.description.size
        give_key(master)
        master.write(1, 20, order_bytes(Order.ENABLE))
        sampler.follow(master.sample([c.spot for c in channels], 20))
        master.start()
        got = []
        for due in range(1, 11):
            board.run(20)
            wait_for(lambda due=due: got.append(sampler.get()) or sum(map(len, got)) >= due)
        assert sampler.lost == sampler.garbled == 0
    finally:
        master.close()
        ended.set()
        served.join()
        bus.shutdown()
    assert lengths <= set(FRAMES) and (max(lengths) > 8) == bool(fd)


@pytest.mark.parametrize("n", [3, 320, 321, 470, 640, 5000, 40001])
def test_a_trace_of_a_live_run_is_thinned_evenly_to_its_extremes(n):
    """However many points there are for how many places: none of what lies between is left out for long."""
    t, y = np.arange(n) * 1e-6, np.random.default_rng(n).normal(size=n)
    for points in (16, 320):
        kept, values = thinned(t, y, points)
        assert len(kept) <= max(points, 3) if n > points else len(kept) == n
        assert (values.min(), values.max(), kept[-1]) == (y.min(), y.max(), t[-1])
        steps = np.diff(np.searchsorted(t, kept), prepend=0)
        assert steps.max() <= 2 * np.ceil(n / (points // 2 - 1))
    y[n // 2] = np.nan
    assert np.nanmin(thinned(t, y, 16)[1]) == np.nanmin(y)


@pytest.mark.parametrize("factor", [0.01, 1.0, 20.0])
def test_a_simulation_in_step_with_the_clock_rests_between_its_slices(monkeypatch, factor):
    """By a clock of its own: each slice and each look at the clock take a share of a slice, whatever its length."""
    clock, slice_ = [0.0], 2e-3 * factor
    monkeypatch.setattr("pendel.core.live.pace.time.monotonic", lambda: clock[0])
    pace, simulated, computed, slices = Pace(factor), 0.0, 0.0, 0
    pace.begin(0.0)
    while clock[0] < 1.0:
        clock[0] += pace.wait(simulated, slice_) + 1e-5
        while pace.is_due(simulated + slice_):
            simulated, slices = simulated + slice_, slices + 1
            clock[0], computed = clock[0] + 4e-4, computed + 4e-4
        assert pace.behind(simulated) < 3e-3
    assert slices == pytest.approx(500, abs=3) and computed < 0.21
    assert simulated == pytest.approx(factor * clock[0], rel=0.01)
    assert Pace(math.inf).is_due(1e9)


def test_a_board_is_loaded_over_datagrams_too():
    drive = door("speed_pi.K_p")
    made = prepare(drive).lowered
    board, bench = StandInProcess(["udp"]), Bench()
    try:
        board.surround(to_text(drive), own_c=False)
        bench.connect(board.addresses[0], board.secret)
        image = build_library(image_text(made)).read_bytes()
        assert bench.load(image).checksum == checksum_of(made)
        assert bench.order(Order.ENABLE).state is BoardState.ENABLED
    finally:
        bench.disconnect()
        board.close()


def framed(packet: bytes, counter: int = 0) -> bytes:
    return len(packet).to_bytes(2, "little") + counter.to_bytes(2, "little") + packet


@pytest.fixture(scope="module")
def served():
    """A stand-in board on TCP, as other programs on this computer see it."""
    board = StandInProcess(["tcp"])
    try:
        board.surround(to_text(door()), own_c=False)
        yield board.addresses[0]
    finally:
        board.close()


def to_board(address: str) -> socket.socket:
    parts = urllib.parse.urlsplit(address)
    return socket.create_connection((parts.hostname, parts.port))


def connected(served, patience: float = 8.0) -> Master:
    """A master that gets the place within so many seconds."""
    until = time.monotonic() + patience
    while True:
        master = Master(open_link(read_address(served)))
        try:
            master.connect()
            return master
        except BenchProblem:
            master.close()
            if time.monotonic() > until:
                raise
            time.sleep(0.1)


@pytest.mark.parametrize(
    "said", [b"", b"\x08\x00", framed(b"\xff\x00")[:-1], framed(b"\xff\x00") + b"\x08\x00\x01\x00\xf4"]
)
def test_who_leaves_in_the_middle_of_a_packet_leaves_the_board_for_others(served, said):
    with to_board(served) as stranger:
        stranger.sendall(said)
    connected(served, 3.0).close()


def test_a_silent_stranger_holds_the_place_for_two_seconds_and_no_longer(served):
    with to_board(served) as stranger:
        begun = time.monotonic()
        connected(served).close()
        assert time.monotonic() - begun < 5.0
        stranger.settimeout(5.0)
        assert stranger.recv(1) == b""  # it was let go


def test_a_page_in_a_browser_enables_nothing(served):
    """The body of an HTTP request holds packets that connect and enable: its head is no packet, so nothing behind it is
    taken."""
    blind = (
        framed(b"\xff\x00") + framed(b"\xf6\x00\x00\x01\x14\x00\x00\x00", 1) + framed(b"\xf0\x04\x02\x00\x00\x00", 2)
    )
    head = b"POST / HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: %d\r\n\r\n" % len(blind)
    for said in (head + blind, framed(b"\xfd") + blind, blind):  # another first command; and connect, but no key
        with to_board(served) as page:
            page.sendall(said)
            page.settimeout(0.5)
            with contextlib.suppress(OSError):
                page.recv(100)
        master = connected(served)
        try:
            assert read_facts(master.read(1, 0, SIZE)).state is BoardState.IDLE
        finally:
            master.close()


@pytest.mark.parametrize("framing", ["ethernet", "serial", "can fd"])
def test_a_packet_one_byte_too_long_is_no_command(framing):
    board = InProcess(door(), framing)
    kind, cto, _ = FRAMINGS[framing]
    board.send(b"\xff\x00")
    board.receive()
    longest, beyond = (bytes([0xF0, 4]) + bytes(n - 2) for n in (cto, cto + 1))  # 'download' with what fills it
    board.send(longest) if kind != 2 else board.library.pd_image_take(board.at, longest, len(longest))
    assert board.receive() != []
    board.send(beyond) if kind != 2 else board.library.pd_image_take(board.at, beyond, len(beyond))
    told = board.receive()
    assert told == ([b"\xfe\x21"] if kind == 2 else [])  # a frame is refused; on the others it is no packet


def test_a_serial_line_that_fell_silent_in_a_packet_is_heard_again():
    board = InProcess(door(), "serial")
    board.library.pd_image_take(board.at, b"\x80\x00\x00\x00\xf4", 5)  # the first bytes of 128
    board.send(b"\xff\x00")
    assert board.receive() == []  # they are taken for more of it
    board.library.pd_image_quiet(board.at)
    board.stream = Stream(summed=True)
    board.send(b"\xff\x00")
    assert board.receive()[0][0] == 0xFF
