"""A drive may come from anyone: its texts stay text, and what is built and run is ours."""

import re
import threading
import time
from concurrent.futures import ThreadPoolExecutor

import pytest

import pendel
from pendel.core.controllers.emit import emit, simulation_source
from pendel.core.controllers.writer import NumberFormat
from pendel.core.drive.document import OwnEquations
from pendel.core.drive.file import from_text, to_text
from pendel.core.errors import BuildProblem, FileProblem
from pendel.core.firmware.ship import build_strictly, write_sources
from pendel.core.plant import compiler
from pendel.core.runs.simulate import prepare
from pendel.core.runs.worker import RunFinished, RunRequest, Worker

HOSTILE = (
    "*/ int pwned = 1; /*",
    "*/ } int pwned(void) { return 1; } /*",
    "\\\n*/ #include </etc/passwd>",
    "??/\n*/",
    "/*/",
    '"; system("x");',
)


def controller(title="Plain", name="Gain", comment="A comment."):
    """A deck with a title, a card's name and a docstring of one's own."""
    d = pendel.Drive(title)
    d.set("tick", "1 ms")
    d.add("constant", "Wish", value="2")
    d.add(
        "own_block",
        "Own",
        own=OwnEquations(("x: in", "y: out"), ("K = 3",), (), (), (f'"""{comment}"""', "y = K * x")),
    )
    for card, new in (("wish", name), ("own", name)):
        d.document.cards[card] = type(d.document.cards[card])(
            **{**d.document.cards[card].__dict__, "name": new}
        )
    d.connect("wish.out", "own.x")
    return prepare(from_text(to_text(d.document))).deck


def without_comments(text):
    return re.sub(r"/\*.*?\*/", "", text, flags=re.DOTALL)


@pytest.mark.parametrize("text", HOSTILE)
def test_texts_of_a_drive_change_nothing_but_comments_in_its_c(text):
    plain = emit(controller(), NumberFormat.FLOAT32)
    for deck in (controller(name=text), controller(comment=text.replace("\\", "").replace('"', "'"))):
        hostile = emit(deck, NumberFormat.FLOAT32)
        assert without_comments(hostile.source) == without_comments(plain.source)
        assert without_comments(simulation_source(deck)) == without_comments(simulation_source(controller()))
        build_strictly(deck, hostile)
    assert "pwned" not in without_comments(emit(controller(title=text), NumberFormat.FLOAT32).source).replace(
        "pwned_1", ""
    ).replace("int_pwned", "")


@pytest.mark.parametrize(
    "title", ["Constant", "Real", "Size", "Int", "Encoder", "Step", "Main", "math", "stdint", "pd_step", "In"]
)
def test_a_drive_or_a_card_may_be_called_like_a_block_or_a_type(title):
    deck = controller(title=title)
    build_strictly(deck, emit(deck, NumberFormat.FLOAT32))
    d = pendel.Drive("Cards")
    for n, name in enumerate(("In", "Out", "Tick", title)):
        d.add("constant", name, value=str(n))
    deck = prepare(d.document).deck
    build_strictly(deck, emit(deck, NumberFormat.FLOAT64))


def test_names_that_c_or_the_block_language_has_already_are_told_or_given_another():
    d = pendel.Drive("Names")
    d.set("tick", "1 ms")
    d.add(
        "own_block",
        "Own",
        own=OwnEquations(
            ("int: in", "NAN: out"),
            ("double = 3",),
            ("short = 0",),
            (),
            ("sqrt_ = int * double", "short = short + sqrt_", "NAN = short"),
        ),
    )
    deck = prepare(d.document).deck
    build_strictly(deck, emit(deck, NumberFormat.FLOAT32))
    for own in (
        OwnEquations(("x: in", "y: out"), (), ("table = 0",), (), ("y = mapped(table, 0.0, x, x)",)),
        OwnEquations(("x: in", "y: out"), (), (), (), ("y = interpolated(x, x)",)),
    ):
        d = pendel.Drive("Memory")
        d.add("own_block", "Own", own=own)
        assert any("means something already" in f.sentence or "needs a" in f.sentence for f in d.check())


def test_written_c_replaces_only_what_pendel_wrote(tmp_path):
    deck = controller(title="Main")
    paths = write_sources(deck, NumberFormat.FLOAT32, tmp_path)
    assert sorted(p.name for p in paths) == ["main.c", "main_drive.c", "main_drive.h"]
    write_sources(deck, NumberFormat.FLOAT32, tmp_path)
    (tmp_path / "main.c").write_text("int main(void) { return 0; }\n")
    with pytest.raises(FileProblem, match="not written by Pendel"):
        write_sources(deck, NumberFormat.FLOAT32, tmp_path)
    assert (tmp_path / "main.c").read_text() == "int main(void) { return 0; }\n"


@pytest.fixture
def cache(tmp_path, monkeypatch):
    monkeypatch.setattr(compiler, "user_cache_dir", lambda name: str(tmp_path / name))
    return tmp_path / "pendel" / "builds"


SOURCE = "int answer(void);\nint answer(void) { return 42; }\n"


def test_a_damaged_build_is_built_again_and_the_cache_is_private(cache):
    library = compiler.build_library(SOURCE)
    assert cache.stat().st_mode & 0o777 == 0o700
    good = library.read_bytes()
    for bad in (b"", good[:100], b"rubbish" * 1000):
        library.write_bytes(bad)
        compiler._sound.clear()
        assert compiler.build_library(SOURCE) == library
        assert library.stat().st_size > 1000
        compiler._sound.clear()
        assert compiler.is_built(library)


def test_a_cache_of_another_user_is_refused(cache, monkeypatch):
    compiler.build_library(SOURCE)
    monkeypatch.setattr(compiler.os, "getuid", lambda: 4242)
    with pytest.raises(BuildProblem, match="another user"):
        compiler.build_library(SOURCE)


def test_one_text_is_built_once_whoever_asks_and_no_more_compilers_run_than_cores(cache, monkeypatch):
    real, running, most, calls = compiler.subprocess.Popen, [0], [0], [0]
    lock = threading.Lock()

    def counted(*arguments, **options):
        with lock:
            calls[0] += 1
            running[0] += 1
            most[0] = max(most[0], running[0])
        time.sleep(0.05)
        process = real(*arguments, **options)
        whole = process.communicate

        def communicate(*a, **k):
            try:
                return whole(*a, **k)
            finally:
                with lock:
                    running[0] -= 1

        process.communicate = communicate
        return process

    monkeypatch.setattr(compiler.subprocess, "Popen", counted)
    with ThreadPoolExecutor(12) as pool:
        assert len(set(pool.map(compiler.build_library, [SOURCE] * 12))) == 1
        assert calls[0] == 1
        list(pool.map(compiler.build_library, [SOURCE.replace("42", str(n)) for n in range(9)]))
    assert calls[0] == 10
    assert most[0] <= (compiler.os.cpu_count() or 1)


def test_the_worker_imports_nothing_from_the_current_folder(tmp_path, monkeypatch):
    trap = tmp_path / "trapped"
    for name in ("casadi", "numpy", "pendel"):
        (tmp_path / f"{name}.py").write_text(f"open({str(trap)!r}, 'w').close()\n")
    monkeypatch.chdir(tmp_path)
    d = pendel.Drive("Alone")
    d.set("until", "1 ms")
    d.add("dc_source", "Feed")
    worker = Worker()
    try:
        worker.request(RunRequest(to_text(d.document), "Run", "", "kept.h5"))
        for _ in range(1500):
            answer = worker.answer()
            if answer is not None:
                break
            time.sleep(0.02)
        assert isinstance(answer, RunFinished) and (tmp_path / "kept.h5").exists()
    finally:
        worker.kill()
    assert not trap.exists()
