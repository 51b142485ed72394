"""What a call from another program costs, how soon a script prints, and what rows cost on Dask's workers."""

from __future__ import annotations

import base64
import shutil
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path
from statistics import median

import pendel
from pendel.core.drive import file
from pendel.core.drive.examples import EXAMPLES
from pendel.remote.channels import Channel, HttpChannel, unix_channel
from pendel.remote.completing import completed
from pendel.remote.owner import FileOwner, answer_of, files_folder
from pendel.remote.script_run import Host, ScriptRun
from pendel.remote.server import Server

Tell = Callable[[str, str, str], None]
CALLS, RUNS, ROWS = 400, 60, 300
DOOR = "car_door_drive"


def milliseconds(act: Callable[[], object], count: int) -> float:
    """Of the middle one of so many."""
    spent = []
    for _ in range(count):
        begun = time.perf_counter()
        act()
        spent.append(1e3 * (time.perf_counter() - begun))
    return median(spent)


def calls(row: Tell, place: Path) -> None:
    owner = FileOwner(file.load(place), place)
    server = Server(files_folder(place), answer_of(owner), path=place.with_suffix(".sock"), port=0)
    try:
        doors: dict[str, tuple[Channel, str]] = {
            "Unix socket": (unix_channel(place.with_suffix(".sock")), "1 ms"),
            "HTTP": (HttpChannel("127.0.0.1", server.port, server.token), "2 ms"),
        }
        for name, (channel, wanted) in doors.items():
            channel.call("card.values", card="gear")
            row(
                f"a value of a card, {name}",
                f"{milliseconds(lambda c=channel: c.call('card.values', card='gear'), CALLS):.2f} ms",  # type: ignore[misc]
                wanted,
            )
        channel = doors["Unix socket"][0]
        own = pendel.open_drive(place)

        def here(k: int) -> None:
            own.set("K_p", f"{30 + k % 7} A*s/m")
            own.run()

        def there(k: int) -> None:
            channel.call("drive.set", name="K_p", value=f"{30 + k % 7} A*s/m")
            channel.call("drive.run")

        spent = []
        for act in (here, there):
            act(0)
            begun = time.perf_counter()
            for k in range(RUNS):
                act(k)
            spent.append(time.perf_counter() - begun)
        row("set and run by calls over the same in Python", f"{spent[1] / spent[0]:.2f}", "1.3")
        channel.call("drive.set", name="bridge.level", value="switching")
        points = channel.call("drive.run", until="20 s")
        asked = {"run": points["run"], "signal": "door_motor.current", "form": "arrow"}
        size = len(base64.b64decode(channel.call("run.trace", **asked)["arrow"])) / 16e6
        spent_on = milliseconds(lambda: channel.call("run.trace", **asked), 7) / size
        row("1e6 points of a trace by Arrow, once evaluated", f"{1e-3 * spent_on:.2f} s", "0.2 s")
        in_file = asked | {"path": "current.arrow"}
        spent_on = milliseconds(lambda: channel.call("run.trace", **in_file), 7) / size
        row("the same in a file", f"{1e-3 * spent_on:.2f} s", "0.2 s")
        for each, _ in doors.values():
            each.close()
    finally:
        server.close()


def scripts(row: Tell, place: Path) -> None:
    host = Host(files_folder(place))
    time.sleep(3)  # it is started ahead
    printed = threading.Event()
    begun = time.perf_counter()
    owner = FileOwner(file.load(place), place)
    run = ScriptRun(host, "First", "print('first')", answer_of(owner), lambda words: printed.set())
    printed.wait(60)
    row("a script's start to its first line", f"{1e3 * (time.perf_counter() - begun):.0f} ms", "500 ms")
    run.wait(60)


def words(row: Tell) -> None:
    text = "import pendel\nd = pendel.here()\nrun = d.run()\nd."
    completed(text, 4, 2, [])
    row("completion of a drive's methods", f"{milliseconds(lambda: completed(text, 4, 2, []), 20):.0f} ms", "100 ms")


def workers(row: Tell) -> None:
    import distributed

    d = pendel.open_example(DOOR)
    what, figures = {"m_leaf": ("even", "40 kg", "90 kg", str(ROWS))}, ["max(door_motor.current)"]
    with distributed.LocalCluster(n_workers=2, threads_per_worker=1, dashboard_address=None, silence_logs=50) as local:
        d.series({"m_leaf": ["50 kg", "51 kg"]}, figures, workers=local.scheduler_address).run()
        begun = time.perf_counter()
        d.series(what, figures, cores=1).run()
        one = time.perf_counter() - begun
        begun = time.perf_counter()
        d.series(what, figures, workers=local.scheduler_address).run()
        row("two workers of Dask over one core", f"{one / (time.perf_counter() - begun):.2f}", "1.7")


def report(row: Tell) -> None:
    with tempfile.TemporaryDirectory() as folder:
        place = Path(shutil.copy(EXAMPLES / f"{DOOR}.pendel", folder))
        calls(row, place)
        scripts(row, place)
    words(row)
    workers(row)


if __name__ == "__main__":
    report(lambda what, figure, wanted: print(f"{what}: {figure} ({wanted})"))
