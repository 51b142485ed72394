"""A unit as a file: description, library and sources in one archive."""

from __future__ import annotations

import hashlib
import io
import platform
import zipfile
from collections.abc import Mapping
from functools import lru_cache
from importlib import resources

from pendel.core.errors import DriveProblem
from pendel.core.fmu.model_description import IDENTIFIER, build_description, description_of
from pendel.core.fmu.tables import sizes, tables
from pendel.core.fmu.variables import Unit
from pendel.core.plant.compiler import FLAGS, UNIT, library_of
from pendel.core.plant.runtime import LOOP_FLAGS, loop_source, sizes_of
from pendel.core.trust import refuse_strange_c

HIDDEN = "-fvisibility=hidden"
"""Only the functions of the standard are seen from outside, so that several units may share a process."""
HEADER = "fmi3.h"
"""Types of the standard."""
PLATFORM_FOLDERS = {"x86_64": "x86_64-linux", "aarch64": "aarch64-linux", "i686": "x86-linux"}
OLDEST = (1980, 1, 1, 0, 0, 0)
"""The date of all files in the archive, so that the same unit has the same bytes but for its description."""


@lru_cache(maxsize=1)
def own_texts() -> Mapping[str, str]:
    """Our C by name."""
    folder = resources.files("pendel.core.fmu").joinpath("c")
    return {
        n: folder.joinpath(n).read_text("utf-8") for n in (HEADER, "unit.h", "controller.c", "run.c", "functions.c")
    }


def unit_source(unit: Unit, token: str) -> str:
    """C of a unit but for plant and controller, with the time loop in it where there is a plant."""
    own = own_texts()
    if not unit.has_plant:
        parts = [sizes(unit), own["unit.h"], tables(unit, token), own["controller.c"], own["functions.c"]]
    else:
        # The loop comes first: its sizes are macros that its own headers must see.
        loop = loop_source(sizes_of(unit.prepared.structure))
        parts = [loop, sizes(unit), own["unit.h"], tables(unit, token), own["run.c"], own["functions.c"]]
    return "\n".join(parts)


def sources_of(unit: Unit, token: str) -> dict[str, tuple[str, tuple[str, ...]]]:
    """Texts of a unit by file name, each with the flags it is compiled with."""
    sources = {"unit.c": (unit_source(unit, token), LOOP_FLAGS)}
    if unit.has_plant:
        for place, text in enumerate(unit.prepared.structure.source.split(UNIT)):
            sources[f"plant_{place + 1}.c"] = (text, FLAGS)
    if unit.has_controller:
        sources["controller.c"] = (unit.program.control, FLAGS)
    return sources


def token_of(unit: Unit) -> str:
    """Tells units apart whose variables differ."""
    inputs = unit.inputs
    numbers = (
        inputs.parameters.tolist(),
        inputs.starts.tolist(),
        inputs.controls.tolist(),
        inputs.profiles,
        inputs.pulses,
    )
    text = repr((unit.program.key, unit.what, unit.names, unit.tick, numbers, inputs.settings))
    digest = hashlib.sha256(text.encode()).hexdigest()
    return "{" + "-".join((digest[:8], digest[8:12], digest[12:16], digest[16:20], digest[20:32])) + "}"


def archive_of(unit: Unit) -> bytes:
    """Content of a unit's file.

    Raises
    ------
    DriveProblem
        where the drive brings C that was neither typed nor allowed here, or this computer has no place in such files.
    BuildProblem
    """
    refuse_strange_c(unit.drive, "allow it")
    machine = platform.machine()
    if machine not in PLATFORM_FOLDERS:
        raise DriveProblem(f"Units are built for {', '.join(PLATFORM_FOLDERS)}; this computer is {machine}.")
    token = token_of(unit)
    sources = sources_of(unit, token)
    parts = [(text, (*flags, HIDDEN)) for text, flags in sources.values()]
    files: dict[str, bytes] = {
        "modelDescription.xml": description_of(unit, token),
        f"binaries/{PLATFORM_FOLDERS[machine]}/{IDENTIFIER}.so": library_of(
            parts, headers={HEADER: own_texts()[HEADER]}
        ),
        "sources/buildDescription.xml": build_description([(n, flags) for n, (_, flags) in sources.items()]),
        **{f"sources/{n}": text.encode() for n, (text, _) in sources.items()},
        f"sources/{HEADER}": own_texts()[HEADER].encode(),
    }
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in files.items():
            archive.writestr(zipfile.ZipInfo(name, OLDEST), content, zipfile.ZIP_DEFLATED)
    return out.getvalue()
