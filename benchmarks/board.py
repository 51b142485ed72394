"""The stand-in board and live runs against the clock: samples lost, changed values, records over a slow line, pace.

``python benchmarks/board.py SECONDS`` (60 without it)."""

import math
import sys
import time
from pathlib import Path

import numpy as np

import pendel
from pendel.core.bench.bench import Bench
from pendel.core.bench.capture import CaptureState
from pendel.core.bench.description import describe
from pendel.core.bench.facts import Order
from pendel.core.bench.standin_process import StandInProcess
from pendel.core.bench.trigger import Mode, Trigger
from pendel.core.drive.file import load, to_text
from pendel.core.firmware.board_image import image_text
from pendel.core.live.client import LiveRun
from pendel.core.plant.compiler import build_library
from pendel.core.runs.preparing.simulate import prepare
from pendel.core.verbs import live_values

EXAMPLES = Path(pendel.__file__).parent / "examples"


def door():
    drive = load(EXAMPLES / "car_door_drive.pendel")
    live_values(drive, wished=["speed_pi.K_p"])
    made = prepare(drive).lowered
    return drive, describe(drive, made), build_library(image_text(made)).read_bytes()


def eight(description):
    keys = [k for k in description.channels if ":" not in k or k.startswith(("input", "output"))]
    return [description.channels[k] for k in keys[:8]]


def stream(seconds):
    """Eight channels at each of 20 000 ticks a second, and a value changed every 20 ms."""
    drive, description, image = door()
    board, bench = StandInProcess(["tcp"]), Bench()
    try:
        board.surround(to_text(drive), own_c=False)
        bench.connect(board.addresses[0], board.secret)
        bench.load(image)
        sampler = bench.sample(eight(description), 1)
        bench.order(Order.ENABLE)
        begun, count, taken, first, last = time.perf_counter(), 0, [], None, 0
        while time.perf_counter() - begun < seconds:
            samples = sampler.get()
            count += len(samples)
            if len(samples):
                first = samples.ticks[0] if first is None else first
                last = samples.ticks[-1]
            at = time.perf_counter()
            live = description.values["speed_pi.K_p"].channel
            bench.master.write(0, live.spot.address, np.float32(20.0 + count % 7).tobytes())
            taken.append(1e3 * (time.perf_counter() - at))
            time.sleep(0.02)
        span = time.perf_counter() - begun
        facts, whole = bench.facts(), (last - first + 1) * description.tick
        print(
            f"stand-in, door at 20 kHz, 8 channels, {span:.0f} s: {count} samples, {sampler.lost} lost, drift "
            f"{1e3 * (whole - span):+.0f} ms, {facts.late} late ticks; a value written in {np.median(taken):.2f} ms, "
            f"p99 {np.percentile(taken, 99):.2f} ms"
        )
    finally:
        bench.disconnect()
        board.close()


def slow_line():
    """A record of 8 channels by 2000 samples at the full rate, over 1 Mbit/s."""
    drive, description, image = door()
    board, bench = StandInProcess(["serial:1000000"]), Bench()
    try:
        board.surround(to_text(drive), own_c=False)
        bench.connect(board.addresses[0], board.secret)
        bench.load(image)
        channels = eight(description)
        record = bench.capture(channels, Trigger(Mode.FREE), 2000, 1, description)
        while record.state() is not CaptureState.FULL:
            time.sleep(0.005)
        at = time.perf_counter()
        record.fetch()
        print(f"record of 8 x 2000 samples over 1 Mbit/s: fetched in {time.perf_counter() - at:.2f} s")
    finally:
        bench.disconnect()
        board.close()


def live(name, level, *keys, factor=math.inf):
    """How much faster than the clock a live run could be, on one core, with so many signals watched."""
    drive = load(EXAMPLES / f"{name}.pendel")
    drive.settings["level"] = level
    got = []
    run = LiveRun(to_text(drive), on_frame=lambda frame: got.append(frame.status) or run.taken())
    run.set_pace(factor)
    run.watch(keys, 0.2)
    time.sleep(10.0)
    run.close()
    watched = f", {len(keys)} signals watched" if keys else ""
    if factor == 1.0:
        print(f"live run of {name}, {level}{watched}: {100 * got[-1]['load']:.0f} % of a core in step with the clock")
    else:
        print(f"live run of {name}, {level}{watched}: {got[-1]['pace']:.1f} x the clock, as fast as it can")


if __name__ == "__main__":
    stream(float(sys.argv[1]) if len(sys.argv) > 1 else 60.0)
    slow_line()
    live("car_door_drive", "averaged")
    live("valley_feeder", "switching")
    live("valley_filter", "switching")
    live("valley_filter", "switching", "grid.current", "filter.voltage", "rectifier_choke.current")
    live("valley_filter", "switching", factor=1.0)
