"""``pendel check | run | measure | loops | c``: the same verbs for scripts and terminals.

Exit codes: 0 done; 1 the drive has faults or the run failed; 2 the call or a file is wrong.
"""

from __future__ import annotations

import argparse
import contextlib
import os
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from pendel.core.drive import commands
from pendel.core.drive.assemblies import completed
from pendel.core.drive.document import Drive, End
from pendel.core.errors import DriveHasFindings, DriveProblem, ExpressionProblem, FileProblem, PendelError

if TYPE_CHECKING:
    from pendel.core.runs.kept import KeptRun

DONE, FAILED, WRONG_CALL = 0, 1, 2


def parser() -> argparse.ArgumentParser:
    top = argparse.ArgumentParser(prog="pendel", description="Model, simulate, tune and ship motor drives.")
    verbs = top.add_subparsers(dest="verb", required=True)
    check = verbs.add_parser("check", help="say what is wrong with a drive")
    run = verbs.add_parser("run", help="run a drive and write its traces")
    run.add_argument(
        "--out", metavar="FILE", help="traces as .csv, .h5 or .mat; without it, CSV goes to the terminal"
    )
    measure = verbs.add_parser("measure", help="run a drive and tell what its signals are between two times")
    measure.add_argument(
        "--from", dest="start", metavar="TIME", help="such as 0.2 s; the run's beginning without it"
    )
    measure.add_argument("--to", dest="end", metavar="TIME", help="the run's end without it")
    measure.add_argument("--setpoint", metavar="SIGNAL", help="also tell how the signals follow this one")
    measure.add_argument(
        "--fundamental", metavar="FREQUENCY", help="such as 50 Hz: its amplitude and THD as well"
    )
    for verb in (run, measure):
        verb.add_argument("--until", metavar="TIME", help='run length, such as "1.2 s"')
        verb.add_argument(
            "--signals",
            metavar="LIST",
            help="comma-separated, such as door_motor.speed,door_motor.current; all without it",
        )
        verb.add_argument(
            "--unit",
            metavar="SIGNAL=UNIT",
            action="append",
            default=[],
            help="tell a signal in another unit, such as door_motor.speed=rpm",
        )
        verb.add_argument(
            "--own-c", action="store_true", help="let C that the drive brings run on this computer"
        )
    loops = verbs.add_parser("loops", help="say how the loops of a drive stand")
    code = verbs.add_parser("c", help="write the controller as C")
    for verb in (check, run, measure, loops, code):
        verb.add_argument("file", metavar="FILE", help="a .pendel drive")
        verb.add_argument(
            "--set",
            metavar="NAME=VALUE",
            action="append",
            default=[],
            help="change a quantity, setting or card.value before",
        )
    code.add_argument("folder", metavar="FOLDER")
    return top


def change(drive: Drive, assignment: str) -> None:
    """Apply ``NAME=VALUE``: an existing quantity, a setting, or a card's value."""
    name, found, text = assignment.partition("=")
    name = name.strip()
    if not found or not text.strip():
        raise DriveProblem(f"“{assignment}” is not NAME=VALUE.")
    if "." in name:
        end = End.parse(name)
        from pendel.core.catalogue.assembly import kind_in

        if end.card not in drive.cards or kind_in(drive, end.card).value(end.port) is None:
            raise DriveProblem(f"There is no value {name} in this drive.")
        completed(drive, commands.set_value(drive, end.card, end.port, text)).apply(drive)
    elif name in drive.quantities:
        commands.set_quantity(drive, name, text).apply(drive)
    elif name in drive.settings:
        commands.set_setting(drive, name, text).apply(drive)
    else:
        raise DriveProblem(
            f"There is no quantity or setting {name} in this drive. It has "
            f"{', '.join([*drive.quantities, *drive.settings])}."
        )


def check(drive: Drive) -> int:
    from pendel.core.check import examine
    from pendel.core.runs.simulate import prepare

    findings = examine(drive).findings
    try:
        prepare(drive)
    except DriveHasFindings as problem:
        findings += [f for f in problem.findings if f.sentence not in {g.sentence for g in findings}]
    for finding in findings:
        where = (
            f"{finding.card}.{finding.field}"
            if finding.card and finding.field
            else finding.card or finding.field or "drive"
        )
        print(f"{finding.severity.value}: {where}: {finding.sentence}")
    if not findings:
        print("no findings")
    return FAILED if any(f.stops for f in findings) else DONE


def finished(drive: Drive, options: argparse.Namespace) -> tuple[KeptRun, list[str]]:
    """The run that a call asks for, and the signals it wants of it. What the run found goes to the terminal's
    error stream."""
    from pendel.core.runs.simulate import prepare, run_drive
    from pendel.core.trust import refuse_strange_c

    if options.until:
        commands.set_setting(drive, "until", options.until).apply(drive)
    refuse_strange_c(drive, "add --own-c")
    kept = run_drive(prepare(drive))
    wanted = [s.strip() for s in options.signals.split(",")] if options.signals else kept.keys
    missing = [s for s in wanted if s not in kept.keys]
    if missing:
        raise DriveProblem(f"There is no signal {missing[0]}. There are {', '.join(kept.keys)}.")
    for choice in options.unit:
        key, _, unit_text = choice.partition("=")
        if key not in kept.keys:
            raise DriveProblem(
                f"There is no signal {key} to tell in {unit_text or 'another unit'}. Write SIGNAL=UNIT."
            )
        kept.units.choose(key, kept.declared_unit(key), unit_text)
    print(
        f"{drive.title}: {kept.end:g} s in {kept.seconds:.3f} s, {kept.counters['steps']} steps",
        file=sys.stderr,
    )
    for remark in kept.remarks:
        print(f"found: {remark.sentence}", file=sys.stderr)
    if kept.message:
        print(kept.message, file=sys.stderr)
    return kept, wanted


def run(drive: Drive, options: argparse.Namespace) -> int:
    from pendel.core.formats.traces import columns, formats, save_traces
    from pendel.core.formats.traces_as.csv_text import write_to

    out = Path(options.out) if options.out else None
    if out and out.suffix not in formats():
        raise FileProblem(str(out), f"the ending must be one of {', '.join(formats())}.")
    kept, wanted = finished(drive, options)
    if out:
        save_traces([kept], wanted, options.made or out)
    else:
        write_to(columns([kept], wanted), sys.stdout)
    return FAILED if kept.message else DONE


def measure(drive: Drive, options: argparse.Namespace) -> int:
    """A table of signals in the units shown next to them and one of losses, columns apart by tabs."""
    from pendel.core.measures import Place, Span, measures_at
    from pendel.core.quantities.expressions import value_in_field
    from pendel.core.quantities.named import Names
    from pendel.core.runs.balance import balance
    from pendel.core.runs.shown_units import factor
    from pendel.core.runs.spectra import spectrum

    names = Names({n: q.text for n, q in drive.quantities.items()})

    def read(text: str | None, unit: str, otherwise: float) -> float:
        try:
            return value_in_field(text, unit, names) if text else otherwise
        except ExpressionProblem as problem:
            raise DriveProblem(str(problem)) from problem

    asked, first = read(options.end, "s", float("inf")), read(options.start, "s", 0.0)
    base = read(options.fundamental, "Hz", 0.0)
    if not 0 <= first < asked or base < 0:
        raise DriveProblem("Times must lie one behind the other from 0 s on, and a fundamental above 0 Hz.")
    kept, wanted = finished(drive, options)
    last = min(asked, kept.end)
    if not first < last:
        raise DriveProblem(f"The run ends at {kept.end:g} s, before {first:g} s.")
    kept.fetch(wanted)
    more = ["at the fundamental", "THD %"] if base else []
    found = measures_at(Place.SIGNAL)
    print(*["signal", "unit", *(m.title for m in found), *more], sep="\t")
    for key in wanted:
        trace = kept.trace(key)
        span, one = Span(kept, key, first, last), factor(trace.unit)
        figures = [or_nan(m.value(span)) / (one if m.unit is None else factor(m.unit)) for m in found]
        if base:
            lines = spectrum(*trace.drawn, first, last, fundamental=base)
            figures += [lines.line(base) / one, 100 * lines.distortion(base)]
        print(key, trace.unit, *(f"{x:.6g}" for x in figures), sep="\t")
    if options.setpoint:
        if options.setpoint not in kept.keys:
            raise DriveProblem(f"There is no signal {options.setpoint}. There are {', '.join(kept.keys)}.")
        print("\nresponse", "to", *(m.title for m in measures_at(Place.RESPONSE)), sep="\t")
        for key in wanted:
            span = Span(kept, key, first, last, options.setpoint)
            texts = (measure_text(m.value(span), m.unit_for(span)) for m in measures_at(Place.RESPONSE))
            print(key, options.setpoint, *texts, sep="\t")
    print("\nlost by", "mean power W", "energy J", sep="\t")
    lost = balance(kept, first, last)
    for each in lost.losses:
        print(each.what, f"{each.power:.6g}", f"{each.energy:.6g}", sep="\t")
    for words, energy in lost.sums:
        print(words, f"{energy / lost.duration:.6g}", f"{energy:.6g}", sep="\t")
    return FAILED if kept.message else DONE


def or_nan(value: float | None) -> float:
    return float("nan") if value is None else value


def measure_text(value: float | None, unit: str) -> str:
    from pendel.core.quantities.units import figure

    return "–" if value is None or value != value else figure(value, unit, 4)


def loops(drive: Drive) -> int:
    from pendel.core.loops.tuning import standings

    found = standings(drive)
    for each in found:
        if each.judged is None:
            print(each.loop.label, each.loop.regulator, each.problem, sep="\t")
            continue
        m = each.judged.margins
        state = "stable" if m.stable else "unstable"
        print(
            each.loop.label,
            each.loop.regulator,
            f"crossover {m.crossover:.4g} Hz",
            f"phase margin {m.phase:.3g}°",
            f"gain margin {m.gain_db:.3g} dB",
            f"Ms {m.ms:.3g}",
            state,
            sep="\t",
        )
    if not found:
        print("no closed loop")
    return DONE


def write_c(drive: Drive, folder: str) -> int:
    from pendel.core.controllers.writer import NumberFormat
    from pendel.core.firmware.ship import write_sources
    from pendel.core.runs.simulate import prepare

    for path in write_sources(prepare(drive).deck, NumberFormat.FLOAT32, Path(folder)):
        print(path)
    return DONE


def confine_to(folder: Path, drive: Drive, options: argparse.Namespace) -> None:
    """Confine this process before it runs code that was made of a drive: from here on it reads programs and
    writes builds and ``folder`` only. What is to be asked of the user's files is asked before."""
    from pendel.core.errors import BuildProblem
    from pendel.core.plant.compiler import cache_folder
    from pendel.core.plant.runtime import copy_loop
    from pendel.core.runs.confine import confine
    from pendel.core.trust import allow_all_of, brings_c, strange_c

    if brings_c(drive) and not strange_c(drive):
        allow_all_of(drive)  # the list of what was allowed cannot be read any more
    os.environ["TMPDIR"] = str(folder)
    if brings_c(drive):  # others load what lies in the common cache
        copy_loop(folder)
        os.environ["XDG_CACHE_HOME"] = str(folder)
    writable = [folder]
    with contextlib.suppress(BuildProblem):
        writable.append(cache_folder())
    if options.verb == "c":
        target = Path(options.folder)
        target.mkdir(parents=True, exist_ok=True)
        writable.append(target)
    confine(writable)


def main(
    arguments: Sequence[str] | None = None, *, folder: Path | None = None, out: Path | None = None
) -> int:
    """Do what is asked, and return the exit code. With a ``folder`` the process confines itself to that
    first, and writes traces to ``out`` instead of where they were asked for."""
    options = parser().parse_args(arguments)
    options.made = out
    from pendel.core.drive.file import load
    from pendel.core.extensions import all_left_out
    from pendel.core.trust import allow_all_of

    try:
        drive = load(Path(options.file))
        for assignment in options.set:
            change(drive, assignment)
        for sentence in all_left_out():
            print(f"found: {sentence}", file=sys.stderr)
        if getattr(options, "own_c", False):
            allow_all_of(drive)
        if folder is not None:
            confine_to(folder, drive, options)
        if options.verb == "check":
            return check(drive)
        if options.verb == "loops":
            return loops(drive)
        if options.verb == "c":
            return write_c(drive, options.folder)
        return run(drive, options) if options.verb == "run" else measure(drive, options)
    except DriveHasFindings as problem:
        for finding in problem.findings:
            print(f"fault: {finding.card or finding.field or 'drive'}: {finding}", file=sys.stderr)
        return FAILED
    except (FileProblem, DriveProblem) as problem:
        print(f"pendel: {problem}", file=sys.stderr)
        return WRONG_CALL
    except PendelError as problem:
        print(f"pendel: {problem}", file=sys.stderr)
        return FAILED
    except BrokenPipeError:
        return DONE


if __name__ == "__main__":
    from pendel.cli.apart import terminal

    sys.exit(terminal())
