"""Inputs that are guided by which lines they reach: ``./run faults --guided SECONDS`` for each boundary, with Atheris
(coverage-guided mutation by libFuzzer) in an environment of its own. What fails is kept in ``build/faults``, what
reached new lines in ``build/guided``."""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

import atheris

with atheris.instrument_imports(include=["pendel.core"]):
    from pendel.core.bench.setups import read_setup
    from pendel.core.bench.value_sets import read_set
    from pendel.core.catalogue.own import PART, read_own
    from pendel.core.catalogue.own_block import LANGUAGE, MODES, C, read_block
    from pendel.core.check import examine
    from pendel.core.drive import file
    from pendel.core.drive.document import Card, Drive, OwnEquations
    from pendel.core.errors import PendelError
    from pendel.core.quantities.expressions import names_in, read_equation, renamed, value_in_field
    from pendel.core.quantities.named import Names
    from pendel.core.quantities.units import unit

ROOT = Path(__file__).parents[3]
CORPUS, FAILED = ROOT / "build" / "guided", ROOT / "build" / "faults"
EXAMPLES = ROOT / "src" / "pendel" / "examples"
UNITS = ("V", "A", "s", "", "rad/s", "Hz", "kg*m^2", "1", "%", "°C", "rpm")
TOO_LONG, MOST_MEGABYTES = 4, 2500
"""Seconds that a case may take (it runs several times slower here), and memory."""


def expressions(text: str) -> None:
    names = Names({"K_p": "3 A*s/m", "x": text, "R_a": "0.5 ohm"})
    for each in (
        lambda: value_in_field(text, UNITS[len(text) % len(UNITS)], names),
        lambda: names_in(text) and renamed(text, "x", "y"),
        lambda: read_equation(text),
        lambda: unit(text),
    ):
        answer(each)


def own_lines(text: str) -> None:
    kind, *sections = text.split("\f")
    own = OwnEquations(*(tuple(s.split("\n")) for s in [*sections, "", "", "", "", ""][:5]))
    kind = kind if kind in (PART, LANGUAGE, MODES, C) else LANGUAGE
    drive = Drive()
    drive.cards["o"] = Card(kind, "O", own=own)
    answer(lambda: read_own(own, Names({})) if kind == PART else read_block(own, kind, Names({})))
    answer(lambda: examine(drive))


def drive_files(text: str) -> None:
    answer(lambda: file.from_text(text))

    def again() -> None:
        drive, _ = file.as_far_as_it_goes(text)
        examine(drive)
        kept = file.to_text(drive)
        assert file.to_text(file.from_text(kept)) == kept, "what was opened cannot be kept"

    answer(again)


def value_sets(text: str) -> None:
    from_file(text, read_set)


def set_ups(text: str) -> None:
    from_file(text, read_setup)


def from_file(text: str, read: Callable[[Path], object]) -> None:
    with tempfile.NamedTemporaryFile("w", encoding="utf-8", errors="surrogateescape", suffix=".json") as made:
        made.write(text)
        made.flush()
        answer(lambda: read(Path(made.name)))


def answer(act: Callable[[], object]) -> None:
    """A sentence of ours is an answer; everything else is a failure, and ends the search."""
    try:
        act()
    except PendelError as told:
        assert str(told).strip(), "refused without a sentence"


def smallest_examples() -> list[str]:
    return [p.read_text("utf-8") for p in EXAMPLES.glob("*.pendel") if p.stat().st_size < 12_000]


TARGETS: dict[str, tuple[Callable[[str], None], list[str]]] = {
    "expressions": (
        expressions,
        ["1.5 A*s/m", "2*K_p + sqrt(x)^2", "L*der(i) = u - R*i", "-3e-4 kg*m^2/s", "25 Hz # remark"],
    ),
    "own_lines": (
        own_lines,
        [
            f"{LANGUAGE}\fx: in\ny: out, V\fK = 2 V/A\fn = 0"
            "\fif x > 1:\n    y = K * x\nelse:\n    y = saturate(n, 0, 1)\nn = n + dt",
            f"{MODES}\fx: in\ny: out\f\f\fidle: y = 0\nrun: y = x; y = 2"
            "\nidle -> run: x > 0.5 and elapsed > 1\nrun -> idle: x < 0",
            f"{C}\fx: in\ny: out\fK = 2\fn = 0\ffor (int k = 0; k < 3; k++) {{ n += x; }} y = K * n;",
            f"{PART}\fw: dc, u, i\fR = 2 ohm\fi = 0 A\fL*der(i) = u - R*i",
        ],
    ),
    "drive_files": (drive_files, smallest_examples()),
    "value_sets": (value_sets, [json.dumps({"format": "pendel values", "drive": "x", "values": {"a.K": "2 A"}})]),
    "set_ups": (
        set_ups,
        [
            json.dumps(
                {
                    "format": "pendel oscilloscope",
                    "channels": [{"key": "a.out", "scale": "1"}],
                    "trigger": {"mode": "normal"},
                }
            )
        ],
    ),
}


def search(name: str, seconds: int) -> None:
    """Look for failures of one boundary; ends the process."""
    act, seeds = TARGETS[name]
    corpus = CORPUS / name
    corpus.mkdir(parents=True, exist_ok=True)
    FAILED.mkdir(parents=True, exist_ok=True)
    for number, seed in enumerate(seeds):
        (corpus / f"seed_{number}").write_text(seed, "utf-8")
    limits = [f"-max_total_time={seconds}", f"-timeout={TOO_LONG}", f"-rss_limit_mb={MOST_MEGABYTES}", "-max_len=16000"]
    told = [f"-artifact_prefix={FAILED}/guided_{name}_", "-print_final_stats=1", "-verbosity=0"]
    atheris.Setup([sys.argv[0], *limits, *told, str(corpus)], lambda data: act(data.decode("utf-8", "surrogateescape")))
    atheris.Fuzz()


def main(seconds: int) -> int:
    """All boundaries, one after the other, each in a process of its own, as a search ends with its process."""
    failed = 0
    for name in TARGETS:
        ran = subprocess.run(
            [sys.executable, "-m", "tests.campaigns.faults.guided", str(seconds), name],
            cwd=ROOT,
            capture_output=True,
            text=True,
        )
        tried = next((line.split()[-1] for line in ran.stderr.splitlines() if "number_of_executed_units" in line), "?")
        print(f"{name}: {tried} tried, {'failed' if ran.returncode else '0 failed'}", flush=True)
        if ran.returncode:
            failed += 1
            print("\n".join(ran.stderr.splitlines()[-25:]))
    return 1 if failed else 0


if __name__ == "__main__":
    if len(sys.argv) > 2:
        search(sys.argv[2], int(sys.argv[1]))
    sys.exit(main(int(sys.argv[1])))
