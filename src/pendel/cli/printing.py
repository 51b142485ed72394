"""Results of verbs on the terminal: as text with columns apart by tabs, or as JSON."""

from __future__ import annotations

import json
import math
import sys
from collections.abc import Mapping
from functools import singledispatch
from typing import Any

from pendel.cli.lines import print_aside, print_line, visible_json
from pendel.core.firmware.propose import ProposedFormats
from pendel.core.heat.held import Held
from pendel.core.verbs.asking import AboutReport, FindingReport, LoopReport, SignalReport
from pendel.core.verbs.exporting import UnitReport
from pendel.core.verbs.heating import HeatReport
from pendel.core.verbs.judging import TransferReport
from pendel.core.verbs.mechanics import CalmedReport, MechanicsReport
from pendel.core.verbs.plain import plain as in_plain
from pendel.core.verbs.running import Measured, Ran
from pendel.core.verbs.series import Planned, SearchReport, SeriesReport
from pendel.core.verbs.shipping import FirmwareReport
from pendel.core.verbs.splitting import SplitReport
from pendel.core.verbs.tuning import TunedReport

MOST_REASONS = 5


def as_json(result: Any) -> str:
    """A result as one JSON document, in plain figures; what is not a number is null (RFC 8259 has no NaN)."""
    return visible_json(json.dumps(plain(result), ensure_ascii=False, indent=2))


def plain(thing: Any) -> Any:
    """The same of lists, dictionaries, texts and numbers alone."""
    if isinstance(thing, Ran):
        traces = {key: thing.run.trace(key) for key in thing.signals}
        return {key: {"unit": t.unit, "time": in_plain(t.t), "values": in_plain(t.y_in())} for key, t in traces.items()}
    return in_plain(thing)


@singledispatch
def show(result: Any, verb: str) -> None:
    """Print a result as text."""
    raise TypeError(f"no way to print {type(result).__name__}")


@show.register
def _(result: Ran, verb: str) -> None:
    from pendel.core.formats.traces import columns
    from pendel.core.formats.traces_as.csv_text import write_to

    write_to(columns([result.run], result.signals), sys.stdout)


@show.register
def _(result: Mapping, verb: str) -> None:
    for name, reason in result.items():
        print_aside(f"left as it is: {name}: {reason}")


@show.register
def _(result: list, verb: str) -> None:
    nothing = {
        "check": "no findings",
        "signals": "no signals",
        "loops": "no closed loop",
        "series": "no series is planned",
    }
    for each in result:
        print_line(*cells_of(each))
    if not result:
        print_line(nothing[verb])


@show.register
def _(result: AboutReport, verb: str) -> None:
    print_line(result.title)
    for line in result.text.split("\n") if result.text else ["It says nothing of itself."]:
        print_line(line)
    for strip in result.strips:
        print_line("strip", *strip)


@show.register
def _(result: Measured, verb: str) -> None:
    titles = list(result.signals[0].values) if result.signals else []
    print_line("signal", "unit", *titles)
    for each in result.signals:
        print_line(each.signal, each.unit, *(f"{x:.6g}" for x in each.values.values()))
    if result.responses:
        print()
        print_line("response", "to", *result.responses[0].values)
    for answer in result.responses:
        print_line(answer.signal, answer.setpoint, *answer.values.values())
    if result.powers:
        print()
        print_line("current", "with", "P W", "S VA", "N VA", "power factor")
    for row in result.powers:
        figures = (row.active, row.apparent, row.non_active, row.factor)
        print_line(row.signal, row.voltage, *(f"{x:.6g}" for x in figures))
    print()
    print_line("lost by", "mean power W", "energy J")
    for lost in (*result.lost, *result.sums):
        print_line(lost.what, f"{lost.power:.6g}", f"{lost.energy:.6g}")
    if result.doubt:
        print_line(result.doubt)


@show.register
def _(result: SeriesReport, verb: str) -> None:
    print_line(f"{result.name}: {result.done} of {result.count} rows, {result.failed} failed")
    if result.columns:
        print()
        print_line("figure", "unit", "minimum", "mean", "maximum")
    for each in result.columns:
        print_line(each.measure, each.unit, *(f"{x:.6g}" for x in (each.minimum, each.mean, each.maximum)))
    reasons = dict.fromkeys(row.reason for row in result.table.rows if row.reason)
    for reason in list(reasons)[:MOST_REASONS]:
        print_aside(f"found: {reason}")
    if len(reasons) > MOST_REASONS:
        print_aside(f"found: {len(reasons) - MOST_REASONS} more reasons; --out has them row by row")


@show.register
def _(result: HeatReport, verb: str) -> None:
    how = "the cycle that repeats itself" if result.steady else "from the start"
    times = f", load × {result.factor:.3g}" if result.factor != 1.0 else ""
    print_line(f"{result.duty or 'duty'} of {result.duration:g} s{times}: {how}, by {result.short_runs} short runs")
    print()
    print_line("place", "signal", "begin °C", "end °C", "warmest °C", "at s", "limit °C", "use", "heat W")
    for p in result.places:
        figures = [f"{x:.4g}" for x in (p.begin, p.end, p.warmest, p.at)]
        limit = [f"{p.limit:.4g}", f"{100 * p.use:.0f} %"] if p.limit == p.limit else ["–", "–"]
        print_line(p.what, p.signal, *figures, *limit, f"{p.heat:.4g}" if p.heat == p.heat else "–")


@show.register
def _(result: Held, verb: str) -> None:
    begun = f", after {100 * result.before:.0f} % of what is held for ever" if result.before else ", from the start"
    print_line(f"{result.machine}{begun}, by {result.runs} short runs")
    print()
    for row in result.rows():
        print_line(*(cell or "–" for cell in row))


@show.register
def _(result: SplitReport, verb: str) -> None:
    for line in result.words.splitlines():
        print_line(line)


@show.register
def _(result: SearchReport, verb: str) -> None:
    print_line(result.words)
    for name, text in result.values.items():
        print_line(name, text)
    for each in result.columns:
        print_line(each.measure, f"{each.minimum:.6g}", each.unit)


@show.register
def _(result: TransferReport, verb: str) -> None:
    opened = f", opened at {', '.join(result.opened)}" if result.opened else ""
    rhythm = f"every {result.dt:g} s" if result.dt else "continuous"
    size = f"{result.order} of {result.states} states"
    print_line(f"{result.source} → {result.target}{opened}, {result.point}; {rhythm}; {size}")
    if math.isfinite(result.crossover):
        print_line(
            f"crossover {result.crossover:.4g} Hz, phase margin {result.phase_margin:.3g}°, "
            f"gain margin {result.gain_margin:.3g} dB, Ms {result.ms:.3g}"
        )
    print()
    print_line("pole Hz", "damping", "lives in")
    for pole in result.poles:
        place = f"{pole.natural:.5g}" if math.isfinite(pole.natural) else "within a sample"
        print_line(place, f"{pole.damping:.4g}", ", ".join(pole.states))
    for words in result.left_out:
        print_aside(f"left out, {words}")
    for words in result.remarks:
        print_aside(f"found: {words}")
    if result.swept:
        print()
        print_line("swept Hz", "magnitude", "phase °", "off dB", "off °", "harmonics", "amplitude")
    for p in result.swept:
        figures = (p.frequency, p.magnitude, p.phase, p.off_db, p.off_degrees, p.harmonics, p.amplitude)
        print_line(*(f"{x:.4g}" for x in figures), *(() if p.linear else ("not linear",)))


@show.register
def _(result: MechanicsReport, verb: str) -> None:
    for chain in result.chains:
        inertia = f", {chain.inertia:.5g} in all seen from {chain.bodies[0]}" if math.isfinite(chain.inertia) else ""
        print_line(f"{' – '.join(chain.bodies)}{inertia}")
        if chain.held:
            print_line(f"with {chain.bodies[0]} held: {', '.join(f'{f:.5g} Hz' for f in chain.held)}")
        if chain.modes:
            print()
            print_line("mode", "Hz", "damping", *chain.bodies, "gives way")
        for mode in chain.modes:
            soft = ", ".join(f"{name} {share:.0%}" for name, share in mode.elastic.items() if share >= 0.01)
            shape = (f"{value:.3g}" for value in mode.shape.values())
            print_line(mode.number, f"{mode.frequency:.5g}", f"{mode.damping:.4g}", *shape, soft)
    if not any(chain.modes for chain in result.chains):
        print_line("nothing swings: no two bodies with something elastic between them")
    for words in result.remarks:
        print_aside(f"found: {words}")


@show.register
def _(result: CalmedReport, verb: str) -> None:
    reached = f": damping {result.before:.3g} → {result.reached:.3g}" if math.isfinite(result.reached) else ""
    print_line(f"{result.how} behind {result.at}, {result.frequency:.5g} Hz{reached}")
    for words in result.remarks:
        print_aside(f"found: {words}")


@show.register
def _(result: UnitReport, verb: str) -> None:
    print_aside(f"{result.what}, in ticks of {result.step:g} s")
    for each in result.variables:
        start = "" if each.start is None else f"{each.start:.9g}"
        print_line(each.name, each.use, each.unit, start, each.description)


@show.register
def _(result: ProposedFormats, verb: str) -> None:
    for block, number in result.formats.items():
        print_line(block, number)
    words = "" if result.reached else f", more than the {100 * result.wanted:.3g} % wanted"
    print_aside(f"error {100 * result.error:.3g} % of {result.worst or 'nothing'}{words}")
    for tried in result.tried:
        if not tried.taken:
            print_aside(f"{tried.block} keeps 32 bits: 16 leave {100 * tried.error:.3g} % of {tried.signal}")
    for block, reason in result.reasons.items():
        print_aside(f"{block} stays in float: {reason}")


@show.register
def _(result: FirmwareReport, verb: str) -> None:
    print_line("block", "every", "format", "signal", "lowest", "highest", "step", "bytes")
    for block in result.blocks:
        for k, signal in enumerate(block.signals):
            ends = (f"{x:.6g}" if math.isfinite(x) else "" for x in (signal.low, signal.high))
            step = f"{signal.step:.4g}" if signal.step else ""
            data = block.data if k == 0 else ""
            print_line(block.name, block.every, block.number.value, signal.signal, *ends, step, data)
    live = [v for v in result.values if v.ends is not None]
    if live:
        print()
        print_line("live value", "now", "lowest", "highest", "in the code", "word")
    for value in live:
        assert value.ends is not None
        for k, number in enumerate(value.numbers):
            head = (value.key, f"{value.now:.6g}", *value.ends) if k == 0 else ("", "", "", "")
            word = f"{number.now:.9g}" if number.rep.floating else number.word
            print_line(*head, f"{number.name} = {number.formula}", word)
    for finding in result.findings:
        print_line(f"attention: {finding.card}: {finding.sentence}")
    if result.check is not None:
        c = result.check
        print()
        print_line(f"{c.compiler}: {c.code_bytes} bytes of object file, {c.data_bytes} bytes of data, {c.ticks} ticks")
        for build in c.unlike:
            print_line(f"differs: {build}")
        if not c.unlike:
            print_line(f"the same to the bit: {', '.join(c.builds)}")
        print()
        print_line("signal", "largest difference from float 64, same inputs", "rms in closed loop, % of its span")
        for name, gap in c.differences.items():
            print_line(name, f"{gap:.4g}", f"{100 * c.closed[name]:.3g}" if name in c.closed else "")
    for each in result.processors:
        print()
        print_line(
            f"{each.processor}: {each.mean:.0f} instructions a tick, {each.largest} at most; {each.flash} "
            f"bytes of flash, {each.data} of data; {each.ticks} ticks "
            f"{f'differ: {each.unlike}' if each.unlike else 'the same to the bit'}"
            f"{'' if math.isnan(each.load) else f'; the longest takes {100 * each.load:.3g} % of a period'}"
        )
        for name, count in each.by_block.items():
            print_line(name, f"{count:.0f}")


@singledispatch
def cells_of(each: Any) -> tuple[str, ...]:
    """What a line says of one of several, column by column."""
    return (str(each),)


@cells_of.register
def _(each: FindingReport) -> tuple[str, ...]:
    return (f"{each.severity}: {each.where}: {each.sentence}",)


@cells_of.register
def _(each: Planned) -> tuple[str, ...]:
    state = each.state
    if not state.begun:
        return (each.name, "not begun")
    return (each.name, f"{state.done} of {state.count} rows", f"{state.failed} failed", state.differs)


@cells_of.register
def _(each: TunedReport) -> tuple[str, ...]:
    if each.problem:
        return (each.loop, "left as it is", each.problem)
    gains = ", ".join(f"{name} {value:.5g}" for name, value in each.gains.items())
    figures = (
        f"crossover {each.crossover:.4g} Hz",
        f"phase margin {each.phase_margin:.3g}°",
        f"Ms {each.ms:.3g}",
        f"overshoot {each.overshoot:.3g} %",
        f"stopped by {', '.join(each.stopping)}" if each.stopping else "best inside the limits",
    )
    return (each.loop, gains, *figures)


@cells_of.register
def _(each: SignalReport) -> tuple[str, ...]:
    return (each.key, each.unit, f"{each.card}: {each.label}")


@cells_of.register
def _(each: LoopReport) -> tuple[str, ...]:
    if each.problem:
        return (each.name, each.regulator, each.problem)
    place = f" at {each.phase_at:.4g} Hz" if abs(each.phase_at - each.crossover) > 0.01 * each.crossover else ""
    figures = (
        f"crossover {each.crossover:.4g} Hz",
        f"phase margin {each.phase_margin:.3g}°{place}",
        f"gain margin {each.gain_margin:.3g} dB",
        f"Ms {each.ms:.3g}",
        "stable" if each.stable else "unstable",
        *((f"tuned before {', '.join(each.changed_inside)} changed",) if each.changed_inside else ()),
    )
    return (each.name, each.regulator, *figures)
