"""The cache of builds: bounded, and cleared where something is in its way."""

import os
import shutil
import subprocess

import pytest

from pendel.core.errors import BuildProblem
from pendel.core.plant import compiler

SOURCE = "int pd_number(void) {{ return {0}; }}\n"


@pytest.fixture
def cache(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    return compiler.cache_folder()


@pytest.mark.parametrize("suffix", [".so", ".sum", ".lock"])
def test_a_folder_where_a_build_belongs_makes_way(cache, suffix):
    place = compiler.library_path(SOURCE.format(7)).with_suffix(suffix)
    (place / "within").mkdir(parents=True)
    built = compiler.build_library(SOURCE.format(7))
    assert built.is_file() and compiler.is_built(built)


def test_what_killed_builds_left_goes_with_the_next_build_and_what_is_under_way_stays(cache):
    ended = subprocess.Popen(["true"])
    ended.wait()
    left, under_way = cache / f"building-{ended.pid}-abc", cache / f"building-{os.getpid()}-abc"
    for folder in (left, under_way):
        folder.mkdir()
    compiler.build_library(SOURCE.format(8))
    assert not left.exists() and under_way.exists()


def test_the_cache_keeps_the_newest_builds_up_to_its_bytes(cache, monkeypatch):
    builds = [compiler.build_library(SOURCE.format(n)) for n in range(4)]
    for n, build in enumerate(builds):
        os.utime(build, (n, n))
    monkeypatch.setattr(compiler, "CACHE_BYTES", int(2.5 * builds[0].stat().st_size))
    compiler.prune(cache)
    assert [build.exists() for build in builds] == [False, False, True, True]
    assert not builds[0].with_suffix(".sum").exists()


def test_the_compiler_that_is_chosen_builds_or_says_what_to_install(monkeypatch):
    """A choice holds for processes beside, too, and nothing but the known names is ever run."""
    try:
        for chosen, said in (("gcc", ""), ("clang", "apt install clang"), ("sh -c true", "Take gcc, clang, zig")):
            monkeypatch.setenv(compiler.COMPILER_CHOSEN, chosen)
            compiler.compiler.cache_clear()
            if not said or shutil.which(chosen):
                assert compiler.compiler() == (shutil.which(chosen),)
            else:
                with pytest.raises(BuildProblem, match=said):
                    compiler.compiler()
        assert compiler.plain_environment()[compiler.COMPILER_CHOSEN] == "sh -c true"
    finally:
        compiler.compiler.cache_clear()
