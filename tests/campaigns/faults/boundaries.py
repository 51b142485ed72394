"""One function for each way by which something comes in; each makes a case of its number and lets it in."""

from __future__ import annotations

import atexit
import json
import tempfile
import time
from collections.abc import Callable
from copy import deepcopy
from functools import lru_cache
from pathlib import Path
from random import Random

import h5py
import numpy as np
import scipy.io

import pendel
from pendel.core.catalogue.index import kinds
from pendel.core.catalogue.own import read_own
from pendel.core.catalogue.own_block import LANGUAGE, MODES, C, read_block
from pendel.core.check import examine
from pendel.core.drive import clips, commands, file
from pendel.core.drive.document import Card, Drive, End, OwnEquations, Quantity
from pendel.core.errors import DriveProblem
from pendel.core.formats.flux_files import assembled, guess, variables
from pendel.core.processes.requests import RunRequest
from pendel.core.processes.worker import RunFailed, RunFinished, Worker
from pendel.core.quantities.expressions import names_in, read_equation, renamed, value_in_field
from pendel.core.quantities.named import Names
from pendel.core.quantities.units import unit
from pendel.core.runs.preparing.simulate import reopen
from pendel.core.runs.record import kept
from pendel.core.runs.record.evaluating import READING, EvaluatorProcess
from tests.campaigns.faults import texts
from tests.campaigns.faults.boards import board_answers
from tests.campaigns.faults.borders import forged_answer, stranger
from tests.campaigns.faults.far_off import far_off
from tests.campaigns.faults.kills import full_disk, kill
from tests.campaigns.faults.report import Boundary
from tests.campaigns.faults.wired import wired_by_itself
from tests.campaigns.truth.drives import FAMILIES
from tests.campaigns.truth.drives import case as random_case

UNITS = ("V", "A", "s", "", "rad/s", "Hz", "kg*m^2", "1", "%", "°C", "rpm")
EXAMPLES = Path(pendel.__file__).parent / "examples"


def expression(rng: Random, into: Boundary) -> None:
    """A text in a field, as an equation, and as the unit of a field."""
    text = texts.text(rng)
    names = Names({"K_p": "3 A*s/m", "x": texts.text(rng), "R_a": "0.5 ohm"})
    into.meet(data(text), lambda: value_in_field(text, rng.choice(UNITS), names))
    into.meet(data(text), lambda: names_in(text) and renamed(text, "x", "y"))
    if rng.random() < 0.2:
        into.meet(data(text), lambda: read_equation(text))
        into.meet(data(text), lambda: unit(text))


def own_text(rng: Random, into: Boundary) -> None:
    """Lines of an own part, an own block, a state machine, own C."""
    heads = ("x: in", "y: out", "y: out, V", "p: dc, u, i", "w: shaft, phi, tau", "K = 2", "n = 0", "y = K*x", "y = n",
             "if x > 1:", "    y = 1", "else:", "idle: y = 0", "run: y = 1", "idle -> run: x > 0.5", "der(n) = x",
             "i: A", "y = saturate(x, 0, 1)", "y = mapped(table, x)", "y = delayed(line, x, 3)",
             "while True: pass", "y = x;", "for (;;) ;", "/*", "*/", "#include <x>", "int z[1000000000];")  # fmt: skip

    def lines() -> tuple[str, ...]:
        return tuple(rng.choice(heads) if rng.random() < 0.7 else texts.text(rng) for _ in range(rng.randrange(0, 5)))

    own = OwnEquations(lines(), lines(), lines(), lines(), lines())
    kind = rng.choice(("own", LANGUAGE, MODES, C))
    drive = Drive()
    drive.cards["o"] = Card(kind, "O", own=own)
    case = data("\n".join(map(repr, (kind, own))))
    into.meet(case, lambda: read_own(own, Names({})) if kind == "own" else read_block(own, kind, Names({})))
    into.meet(case, lambda: examine(drive))


@lru_cache(maxsize=1)
def sources() -> tuple[str, ...]:
    found = [p.read_text("utf-8") for p in sorted(EXAMPLES.glob("*.pendel")) if p.stat().st_size < 40_000]
    return tuple(found)


def damaged_file(rng: Random, into: Boundary) -> None:
    """A drive's file with bytes or facts changed, opened strictly and as far as it goes, examined and written again."""
    source = rng.choice(sources())
    text = changed_json(rng, source) if rng.random() < 0.6 else changed_text(rng, source)
    into.meet(data(text), lambda: file.from_text(text))

    def again() -> None:
        drive, _ = file.as_far_as_it_goes(text)
        examine(drive)
        there = file.to_text(drive)
        assert file.to_text(file.from_text(there)) == there, "what was opened cannot be kept"

    into.meet(data(text), again, 4.0)


def changed_text(rng: Random, source: str) -> str:
    for _ in range(rng.randrange(1, 5)):
        at = rng.randrange(len(source))
        way = rng.randrange(4)
        if way == 0:
            source = source[:at]
        elif way == 1:
            source = source[:at] + texts.text(rng) + source[at + rng.randrange(8) :]
        elif way == 2:
            end = min(len(source), at + rng.randrange(200))
            source = source[:at] + source[end:]
        else:
            source = source[:at] + source[at : at + 60] + source[at:]
        if not source:
            return rng.choice(("{", "[]", "null", '{"format": "pendel drive"}', "[" * 100_000))
    return source


ODD = (
    None,
    True,
    0,
    -1,
    1e308,
    -1e308,
    10**400,
    "",
    "x",
    [],
    {},
    [[]],
    {"a": {}},
    "\ud800",
    "a" * 300,
    "a.b",
    "A",
    "a\n",
    [1, 2],
    [1e9, 0],
    3.5,
)


def changed_json(rng: Random, source: str) -> str:
    record = json.loads(source)
    for _ in range(rng.randrange(1, 4)):
        at: object = record
        while True:
            items = list(at.keys()) if isinstance(at, dict) else list(range(len(at))) if isinstance(at, list) else []
            if not items:
                break
            key = rng.choice(items)
            deeper = at[key]  # type: ignore[index]
            if not isinstance(deeper, dict | list) or not deeper or rng.random() < 0.25:
                way = rng.randrange(4)
                if way == 0:
                    del at[key]  # type: ignore[attr-defined]
                elif way == 1:
                    at[key] = texts.text(rng)  # type: ignore[index]
                elif way == 2:
                    at[key] = rng.choice(ODD)  # type: ignore[index]
                elif isinstance(at, dict):
                    at[texts.text(rng, 6)] = deepcopy(deeper)
                else:
                    at.append(deepcopy(deeper))  # type: ignore[attr-defined]
                break
            at = deeper
    return json.dumps(record)


def edits(rng: Random, into: Boundary) -> None:
    """Commands with odd arguments on a drive: what is taken can be kept and taken back."""
    drive = file.from_text(rng.choice(sources()))
    for _ in range(6):
        card, other = rng.choice(list(drive.cards)), texts.text(rng, 60)
        before = file.to_text(drive)
        ways: list[Callable[[], commands.Command]] = [
            lambda: commands.set_value(drive, card, rng.choice(("R", "K_p", other)), texts.text(rng)),
            lambda: commands.set_start(drive, card, other, texts.text(rng)),
            lambda: commands.set_choice(drive, card, "level", other),
            lambda: commands.rename_card(drive, card, other * rng.randrange(1, 9)),
            lambda: commands.set_quantity(drive, other, texts.text(rng)),
            lambda: commands.set_setting(
                drive, rng.choice(("title", "until", "tick", other)), other * rng.randrange(1, 200)
            ),
            lambda: commands.move_cards(drive, {card: (rng.choice((0, 10**9, -(10**30))), 1)}),
            lambda: commands.set_profile(drive, card, [(texts.text(rng), texts.text(rng))] * rng.randrange(4)),
            lambda: commands.set_rows(
                drive, card, [[texts.text(rng)] * rng.randrange(4)] * rng.choice((0, 1, 2, 1001))
            ),
            lambda: clips.copy_cards(drive, [card])[0],
            lambda: commands.add_card(drive, rng.choice(list(kinds())), other * rng.randrange(1, 9)),
            lambda: commands.add_wire(drive, End(card, other), End.parse(other)),
            lambda: commands.set_own(drive, card, OwnEquations(ports=(other,) * rng.randrange(3))),
            lambda: commands.set_digits(drive, card, other, texts.text(rng)),
            lambda: commands.set_base(drive, card, rng.choice(("K_p", other)), rng.choice(("binary", other))),
        ]
        way = rng.randrange(len(ways))

        def act(way=way, before=before) -> None:
            command = ways[way]()
            command.apply(drive)
            try:
                there = file.to_text(drive)
                assert file.to_text(file.from_text(there)) == there, "an edit was taken that cannot be kept"
            finally:
                command.revert(drive)
                assert file.to_text(drive) == before, "an edit cannot be taken back"
                command.apply(drive)

        into.meet(data(f"{way} {card} {other!r}"), act)


@lru_cache(maxsize=1)
def a_kept_run() -> bytes:
    d = pendel.Drive("Kept")
    d.set("until", "2 ms")
    d.add("dc_source", "Feed")
    d.add("pair_opener", "Ends")
    d.add("resistor", "Load", R="3 ohm")
    for a, b in (("feed.dc", "ends.pair"), ("ends.plus", "load.a"), ("load.b", "ends.minus")):
        d.connect(a, b)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "r.h5"
        kept.save(d.run().kept, path)
        return path.read_bytes()


def kept_run(rng: Random, into: Boundary) -> None:
    """A kept run with bytes, arrays or facts changed; what opens is looked at."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "r.h5"
        content = bytearray(a_kept_run())
        if rng.random() < 0.4:
            for _ in range(rng.randrange(1, 20)):
                content[rng.randrange(len(content))] = rng.randrange(256)
            path.write_bytes(bytes(content[: rng.randrange(len(content))] if rng.random() < 0.2 else content))
        else:
            path.write_bytes(bytes(content))
            change_run(rng, path)
        case = path.read_bytes()

        def act() -> None:
            run = reopen(path, reader().content)
            for key in run.keys:
                trace = run.trace(key)
                assert len(trace.t) == len(trace.y)
            for key in run.keys[:3]:
                run.pieces(key).mean(0.0, run.end)

        into.meet(case, act, READING + 2.0)


@lru_cache(maxsize=1)
def reader() -> EvaluatorProcess:
    """Files of runs are read as the window reads them."""
    made = EvaluatorProcess()
    atexit.register(made.close)
    return made


def change_run(rng: Random, path: Path) -> None:
    with h5py.File(path, "r+") as held:
        way = rng.randrange(5)
        if way == 0:
            del held[rng.choice(list(held))]
        elif way == 1:
            name = rng.choice(list(held))
            del held[name]
            held[name] = rng.choice(
                (
                    [],
                    [[1.0]],
                    np.zeros((3, 2)),
                    np.full((4, 3), np.nan),
                    b"x",
                    "text",
                    np.zeros((2, 2), complex),
                    np.zeros((0, 5)),
                    [["a"]],
                )
            )
        elif way == 2:
            name = rng.choice(("rows", "ticks", "parameters"))
            rows = held[name][()]
            if rows.size:
                flat = rows.reshape(-1)
                flat[rng.randrange(len(flat))] = rng.choice((np.nan, np.inf, -1e300, 1e300, -1))
                held[name][...] = rows
        else:
            facts = json.loads(held.attrs["facts"])
            changed = json.loads(changed_json(rng, json.dumps(facts)))
            held.attrs["facts"] = json.dumps(changed)
            if way == 3:
                held.attrs["version"] = rng.choice((0, 99, "x"))


def flux_file(rng: Random, into: Boundary) -> None:
    """Tables of fluxes as text, MAT and HDF5, with odd cells or damaged bytes."""
    names = ["i_d [A]", "i_q [A]", "psi_d [Wb]", "psi_q [Wb]"]
    rows = [[a, b, 0.1 + 0.001 * a, 0.002 * b] for a in (-10.0, 0.0, 10.0) for b in (-10.0, 0.0, 10.0)]
    ending = rng.choice(("csv", "csv", "txt", "mat", "h5", "npz"))
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"table.{ending}"
        if ending in ("csv", "txt", "npz"):
            cells = [[str(v) for v in row] for row in [names, *rows]]
            for _ in range(rng.randrange(0, 4)):
                row = rng.choice(cells)
                row[rng.randrange(len(row))] = rng.choice((texts.text(rng), texts.number(rng)))
            path.write_bytes(
                "\n".join(rng.choice((",", ";", "\t")).join(row) for row in cells).encode("utf-8", "replace")
            )
        else:
            columns = dict(zip(("i_d", "i_q", "psi_d", "psi_q"), np.array(rows).T.copy()))
            if rng.random() < 0.4:
                columns[rng.choice(list(columns))] = rng.choice(
                    (np.zeros((0,)), np.full(9, np.nan), np.zeros((3, 3, 3)), np.arange(9), np.full(9, 1e308))
                )
            if ending == "mat":
                scipy.io.savemat(path, columns)
            else:
                with h5py.File(path, "w") as held:
                    for name, column in columns.items():
                        held[name] = column
        content = bytearray(path.read_bytes())
        if rng.random() < 0.4:
            for _ in range(rng.randrange(1, 12)):
                content[rng.randrange(len(content))] = rng.randrange(256)
            path.write_bytes(bytes(content))

        def act() -> None:
            found = variables(path)
            assembled(found, guess(found), path.name)

        into.meet(bytes(content), act)


@lru_cache(maxsize=1)
def all_values() -> tuple[tuple[str, str], ...]:
    return tuple((kind.id, value.name) for kind in kinds().values() for value in kind.values)


def value_of_a_kind(
    rng: Random, into: Boundary, which: tuple[str, str] | None = None, number: str | None = None
) -> None:
    """An odd value in a field of a kind: what is said of it, and all that is shown on it."""
    kind_id, name = which or rng.choice(all_values())
    text = number or (texts.number(rng) if rng.random() < 0.8 else texts.text(rng))
    drive = Drive()
    drive.quantities["K_p"] = Quantity("3")
    drive.cards["card"] = Card(kind_id, "Card", values={name: text})
    into.meet(data(f"{kind_id} {name} {text!r}"), lambda: examine(drive))


@lru_cache(maxsize=1)
def worker() -> Worker:
    made = Worker()
    atexit.register(made.kill)
    return made


def end_worker() -> None:
    """End the processes of `odd_run` and `kept_run`, where there are any; the next case starts another."""
    if reader.cache_info().currsize:
        reader().close()
        reader.cache_clear()
    if worker.cache_info().currsize:
        worker().end_now()
        worker().answer(5.0)  # which buries it


def odd_run(rng: Random, into: Boundary) -> None:
    """A random drive that is sound, with an odd value, start or setting: a run ends, and says how."""
    case = random_case(rng.choice(list(FAMILIES)), rng.randrange(1000))
    drive = case.drive.document
    drive.settings |= {
        "until": rng.choice(("1 ms", "2 ms", "20 us")),
        "method": rng.choice(("auto", "fast", "fixed", "stiff")),
    }
    for _ in range(rng.randrange(1, 3)):
        card = rng.choice([k for k, c in drive.cards.items() if kinds()[c.kind].values])
        value = rng.choice(kinds()[drive.cards[card].kind].values)
        commands.set_value(drive, card, value.name, texts.number(rng)).apply(drive)
    if rng.random() < 0.2:
        name = rng.choice(("until", "tick", "tolerance", "step"))
        commands.set_setting(drive, name, texts.number(rng)).apply(drive)
    text = file.to_text(drive)
    with tempfile.TemporaryDirectory() as folder:
        request = RunRequest(text, "Run", "", f"{folder}/r.h5")

        def act() -> None:
            hand = worker()
            hand.request(request)
            until, answer = time.monotonic() + 6.0, None
            heard = until
            while answer is None and time.monotonic() < heard + 4.0:
                if time.monotonic() > until:
                    hand.stop()
                    heard = (
                        time.monotonic() if hand.shared.keeping[0] else heard
                    )  # it looks at its record, and hears afterwards
                answer = hand.answer()
                time.sleep(0.002)
            if answer is None:
                hand.end_now()
                hand.answer()  # that it was ended is no news to the next
                raise AssertionError("a run that was stopped gave no answer")
            if isinstance(answer, RunFailed):
                foreign = [s for s in ("inside Pendel", "ended unexpectedly", "did not stop") if s in answer.sentence]
                assert not foreign, answer.sentence + answer.log[-300:]
                raise DriveProblem(answer.sentence)
            assert isinstance(answer, RunFinished)
            reopen(answer.keep())

        into.meet(data(text), act, 12.0)


def data(text: str) -> bytes:
    return text.encode("utf-8", "surrogatepass")


BOUNDARIES: dict[str, Callable[[Random, Boundary], None]] = {
    "expressions": expression,
    "own lines": own_text,
    "damaged files": damaged_file,
    "edits": edits,
    "kept runs": kept_run,
    "flux files": flux_file,
    "values of kinds": value_of_a_kind,
    "odd runs": odd_run,
    "values far off": far_off,
    "kills while saving": kill,
    "full disks": full_disk,
    "answers of boards": board_answers,
    "forged answers": forged_answer,
    "strangers at a board": stranger,
    "sheets wired by themselves": wired_by_itself,
}
SHARES = {
    "expressions": 10.0,
    "own lines": 1.0,
    "damaged files": 1.0,
    "edits": 0.3,
    "kept runs": 0.2,
    "flux files": 0.1,
    "values of kinds": 2.0,
    "odd runs": 0.1,
    "values far off": 0.1,
    "kills while saving": 0.3,
    "full disks": 0.05,
    "answers of boards": 0.2,
    "forged answers": 5.0,
    "strangers at a board": 2.0,
    "sheets wired by themselves": 3.0,
}
"""Cases of each for one of `--n`; a round of edits is six, a damaged file is opened twice."""
