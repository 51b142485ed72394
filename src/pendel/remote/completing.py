"""The process that says how a line of a script may go on: by Jedi, which reads Python without running it.

It is confined like those in which scripts run, as Jedi may load what a script imports. Messages are lines of JSON."""

from __future__ import annotations

import contextlib
import json
import os
import re
import socket
import sys
import tempfile
from pathlib import Path
from typing import Any

from platformdirs import user_cache_dir

from pendel.core.runs.confined.child import begin, end_with_parent, stand_back
from pendel.core.runs.confined.confine import confine
from pendel.core.temporary import temporary_folder
from pendel.remote.channels import LineReader

MOST = 60
"""Words that are offered at once."""
WARM = "import pendel\nd = pendel.here()\nrun = d.run()\nd."
IN_TEXT = re.compile(r"""["']([\w.]*)$""")
"""What stands before the cursor within a text."""
LONGEST_ANSWER = 1 << 20


def completed(text: str, line: int, column: int, names: list[str]) -> dict[str, Any]:
    """Words that may come at a place (line from 1, column from 0), and what the call there takes. ``names`` are those
    of the drive, for texts."""
    import jedi

    before = (text.split("\n")[line - 1] if 0 < line <= text.count("\n") + 1 else "")[:column]
    project = jedi.Project(tempfile.gettempdir(), sys_path=[p for p in sys.path if p], smart_sys_path=False)
    script = jedi.Script(text, environment=jedi.InterpreterEnvironment(), project=project)
    found = IN_TEXT.search(before)
    if found and before.count('"') % 2 + before.count("'") % 2:
        begun = found[1]
        return {"words": [name for name in names if begun.lower() in name.lower()][:MOST], "begun": len(begun)}
    words = [each for each in script.complete(line, column) if not each.name.startswith("_")][:MOST]
    begun = words[0].get_completion_prefix_length() if words else 0
    answer: dict[str, Any] = {"words": [each.name for each in words], "begun": begun}
    for signature in script.get_signatures(line, column):
        answer["call"] = signature.to_string()[:300]
        answer["words_of_call"] = signature.docstring(raw=True).split("\n\n")[0][:400]
    return answer


def main() -> None:
    """``argv``: number of the wire, folder."""
    end_with_parent()
    stand_back()
    folder = Path(sys.argv[2])
    kept = words_folder()
    confine([folder, kept])
    os.environ["TMPDIR"] = str(folder)
    os.utime = lambda *args, **how: None  # Jedi marks files of its cache so, which a confined process may not
    wire = socket.socket(fileno=int(sys.argv[1]))
    import jedi

    jedi.settings.cache_directory = str(kept)
    with contextlib.suppress(Exception):
        completed(WARM, 4, 2, [])
    lines = LineReader(wire)
    while (line := lines.line()) is not None:
        try:
            asked = json.loads(line)
            answer = completed(asked["text"], asked["line"], asked["column"], asked["names"])
        except Exception as problem:  # noqa: BLE001  whatever Jedi makes of half a program
            answer = {"words": [], "begun": 0, "problem": repr(problem)[:200]}
        wire.sendall(json.dumps(answer).encode() + b"\n")


def words_folder() -> Path:
    """Where Jedi keeps what it read of libraries; only this process writes there, and it runs nothing of a drive."""
    folder = Path(user_cache_dir("pendel")) / "words"
    with contextlib.suppress(OSError):
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    return folder


class Completer:
    """Handle on the process, which is started with the first question. One question at a time."""

    def __init__(self) -> None:
        self._folder = temporary_folder("words")
        self._process: Any = None

    def begin(self) -> None:
        ours, theirs = socket.socketpair()
        self._process = begin("pendel.remote.completing", self._folder.name, [theirs])
        self._wire, self._lines = ours, LineReader(ours, LONGEST_ANSWER)

    def ask(self, text: str, line: int, column: int, names: list[str]) -> dict[str, Any]:
        """As of `completed`. Raises `OSError` and `ValueError` where the process is gone."""
        if self._process is None or self._process.poll() is not None:
            self.begin()
        asked = {"text": text, "line": line, "column": column, "names": names}
        self._wire.sendall(json.dumps(asked).encode() + b"\n")
        answer = self._lines.line()
        if answer is None:
            raise OSError("the process is gone")
        found = json.loads(answer)
        words = [str(word) for word in found.get("words", [])][:MOST]
        call = [str(found.get(name, "")) for name in ("call", "words_of_call")]
        return {"words": words, "begun": int(found.get("begun", 0)), "call": call[0], "words_of_call": call[1]}

    def close(self) -> None:
        if self._process is not None:
            with contextlib.suppress(ProcessLookupError):
                self._process.kill()
            self._process.wait()
            self._wire.close()
        self._folder.cleanup()


if __name__ == "__main__":
    main()
