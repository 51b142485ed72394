"""A drive seen as if nothing were sampled, with delays as such: sampling, holding and computing delay count by what
they do to a sine of its own frequency, and by nothing else (Franklin, Powell, Workman: Digital Control of Dynamic
Systems, section 4.3, from memory). Below a tenth of the sampling rate that is what the sampled model says; above, it
leaves out the aliases.

Each block answers as it does at its rate, z = e^(jωT). What it gives stays for a period T, which is a factor
(1 − e^(−jωT)) / (jωT): half a period of delay, and a little less of it. What reads at a higher rate sees the same
staircase at its ticks. Commands wait the computing delay."""

from __future__ import annotations

import numpy as np

from pendel.core.loops.models.linear import SampledDrive
from pendel.core.loops.models.linear_models import on_the_way


def held(omega: np.ndarray, period: float) -> np.ndarray:
    """What staying for a period does to a sine."""
    half = omega * period / 2
    return np.exp(-1j * half) * np.sinc(half / np.pi)


def staircase(omega: np.ndarray, tick: float, count: int) -> np.ndarray:
    """The same at ticks: the mean of ``count`` delays from none on."""
    return np.mean(np.exp(-1j * np.outer(omega * tick, np.arange(count))), axis=1)


def continuous_response(
    drive: SampledDrive,
    watch: str,
    omega: np.ndarray,
    *,
    inject: str,
    opened: frozenset[str] = frozenset(),
) -> np.ndarray:
    """Complex response at ``omega`` (rad/s) of what arrives at a signal; for the rest as `SampledDrive.period_map`. The
    drive must stand still about its point."""
    deck, plant, tick = drive.deck, drive.plant, drive.deck.tick
    blocks = {b.name: b for b in drive.blocks}
    names = [*drive.outputs, *plant.signals, *plant.commands]
    place = {name: k for k, name in enumerate(names)}
    n, count = len(names), len(omega)
    whole = np.zeros((count, n, n), dtype=complex)
    whole[:, range(n), range(n)] = 1.0
    right = np.zeros((count, n), dtype=complex)

    def add(row: int, source: str | None, factor: np.ndarray) -> None:
        """What reads a signal, with what comes in there or is opened."""
        if source is None:
            return
        if source in place and source not in opened:
            whole[:, row, place[source]] -= factor
        if source == inject:
            right[:, row] += factor

    for block in blocks.values():
        answer = drive.linear[block.name].response(np.exp(1j * omega * tick * block.every))
        for j, port in enumerate(block.inputs):
            if f"{block.name}.{port}" in drive.silent.ports:
                continue
            source = block.sources.get(port)
            giver = blocks.get(source.partition(".")[0]) if source else None
            stays = giver.every // np.gcd(giver.every, block.every) if giver is not None else 1
            seen = staircase(omega, tick * block.every, stays) if stays > 1 else np.ones(count)
            for i, out in enumerate(block.outputs):
                add(place[f"{block.name}.{out}"], source, answer[:, i, j] * seen)
    for command in plant.commands:
        source = deck.commands.get(command)
        giver = blocks.get(source.partition(".")[0]) if source else None
        period = tick * (giver.every if giver is not None else 1)
        waits = np.exp(-1j * omega * tick * deck.delay)
        add(place[command], source if giver is not None else None, held(omega, period) * waits)
    # What the plant takes of a command is where something comes in, or is opened, at the command itself.
    inner = np.linalg.solve(
        1j * omega[:, None, None] * np.eye(len(plant.states)) - plant.A,
        np.broadcast_to(np.hstack([plant.B, plant.W]), (count, len(plant.states), plant.B.shape[1] + plant.W.shape[1])),
    )
    answers = plant.C @ inner + np.hstack([plant.D, plant.V])
    for i, signal in enumerate(plant.signals):
        for j, command in enumerate(plant.commands):
            add(place[signal], command, answers[:, i, j])
        for j, load in enumerate(plant.loads):
            if load == inject:
                right[:, place[signal]] += answers[:, i, len(plant.commands) + j]
    end, read, direct = watch, 1.0, 0.0
    if watch not in place:  # a block's port, which reads what was changed on the way there
        block_name, _, port = watch.partition(".")
        end = str(blocks[block_name].sources.get(port)) if block_name in blocks else ""
        read, direct = float(end not in opened), float(end == inject)
    if end not in place:
        return np.full(count, direct, dtype=complex)
    shown = np.zeros((1, n))
    shown[0, place[end]] = 1.0
    kept = on_the_way(np.any(whole != 0, axis=0), np.any(right != 0, axis=0)[:, None], shown)
    if place[end] not in kept:
        return np.full(count, direct, dtype=complex)
    solved = np.linalg.solve(whole[:, kept[:, None], kept], right[:, kept, None])[:, :, 0]
    return read * solved[:, int(np.flatnonzero(kept == place[end])[0])] + direct


__all__ = ["continuous_response"]
