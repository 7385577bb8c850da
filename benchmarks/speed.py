"""How fast it is, as ratios within one run, and how smooth the drive view moves."""

from __future__ import annotations

import os
import resource
import subprocess
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import numpy as np

from nodrek.core.corners import map_corners
from nodrek.core.model import Corner, Vehicle, WheelLog
from nodrek.core.verdict.judge import analyze_log
from nodrek.io.knowledge import shipped_calibration
from nodrek.io.logs.read import read_log
from nodrek.io.logs.source import Request
from nodrek.io.logs.write import write_csv
from nodrek.jobs.analyze import analyze_file
from nodrek.simulate.chain import simulate
from nodrek.simulate.faults import Cause, SimulatedFault
from nodrek.simulate.vary import draw_scenario

REPEATS = 7
REPEATS_A_DAY = 48


def long_log(folder: Path, *faults: SimulatedFault) -> Path:
    """Ten minutes at 100 Hz."""
    scenario = draw_scenario(60_001, faults, duration_s=600.0, rates_hz=(100.0,), control_units=("span",))
    path = folder / f"long-{len(faults)}.csv"
    write_csv(simulate(scenario), path)
    return path


def best_seconds(commands: dict[str, list[str]]) -> dict[str, float]:
    """Shortest time of each command, taken in turn so that all share the machine's moods."""
    best = dict.fromkeys(commands, float("inf"))
    for _ in range(REPEATS):
        for name, command in commands.items():
            began = time.perf_counter()
            subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
            best[name] = min(best[name], time.perf_counter() - began)
    return best


def frames(path: Path) -> list[float]:
    """Milliseconds of each of 60 pans and zooms of the drive view, drawn offscreen."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PySide6.QtWidgets import QApplication

    from nodrek.desktop.controller import Controller
    from nodrek.desktop.views.theme import load_fonts

    app = QApplication.instance() or QApplication([])
    assert isinstance(app, QApplication)
    load_fonts()
    controller = Controller(app, path.parent / "settings.json")
    controller.window.show()
    controller.open(path)
    while controller.session.busy is not None:
        app.processEvents()
        time.sleep(0.01)
    app.processEvents()
    out = []
    width = 600.0
    for k in range(60):
        width = width * 0.9 if k < 30 else width * 1.1
        start = min(max(0.0, 300.0 - width / 2 + (k % 7)), 600.0 - width)
        began = time.perf_counter()
        controller.window.drive.window_wanted.emit(start, start + width)
        while controller._pending.isActive():
            app.processEvents()
        app.processEvents()  # painting is part of the frame
        out.append(1e3 * (time.perf_counter() - began))
    return out


def window_seconds() -> float:
    """From the start of the process to the first shown window."""
    code = (
        "import sys, time; t = time.perf_counter();"
        "from PySide6.QtWidgets import QApplication;"
        "from nodrek.desktop.controller import Controller;"
        "from nodrek.desktop.views.theme import load_fonts;"
        "from pathlib import Path; app = QApplication([]); load_fonts();"
        "c = Controller(app, Path('/nonexistent/settings.json')); c.window.show(); app.processEvents();"
        "c.window.grab()"
    )
    best = float("inf")
    for _ in range(5):
        began = time.perf_counter()
        environment = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}
        subprocess.run([sys.executable, "-c", code], check=True, env=environment)
        best = min(best, time.perf_counter() - began)
    return best


def whole_day(path: Path) -> None:
    """Eight hours at 100 Hz, the log of `path` over and over: processor time, and memory beside the log itself."""
    once = map_corners(read_log(path, Request()))
    channels, times = {}, None
    for corner, channel in once.channels.items():
        if times is None:
            lap = channel.times[-1] - channel.times[0] + 0.01
            times = np.concatenate([channel.times + k * lap for k in range(REPEATS_A_DAY)])
        speed, invalid = (np.tile(a, REPEATS_A_DAY) for a in (channel.speed, channel.invalid))
        channels[corner] = replace(channel, times=times, speed=speed, invalid=invalid)
    assert times is not None
    log = WheelLog(channels, float(times[-1]))
    arrays = times.nbytes + sum(c.speed.nbytes + c.invalid.nbytes for c in channels.values())
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    began = time.process_time()
    analyze_log(log, Vehicle(), lambda share, doing: None, shipped_calibration())
    grown = 1024.0 * (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / arrays
    print(f"Eight hours at 100 Hz: {time.process_time() - began:.1f} s of processor time; resident memory grew by "
          f"{grown:.1f} times the arrays ({arrays / 1e6:.0f} MB)")  # fmt: skip


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        healthy = long_log(folder)
        faulty = long_log(folder, SimulatedFault(Corner.RL, Cause.MISSING_TEETH))
        analyze = [sys.executable, "-m", "nodrek", "analyze", "--json"]
        times = best_seconds(
            {
                "import numpy, polars": [sys.executable, "-c", "import numpy, polars"],
                "analyze, healthy": [*analyze, str(healthy)],
                "analyze, lost tooth": [*analyze, str(faulty)],
            }
        )
        base = times["import numpy, polars"]
        print("Whole process, ten minutes at 100 Hz (times of importing numpy and polars)")
        for label, seconds in times.items():
            print(f"  {label:24s} {seconds:6.2f} s  {seconds / base:5.2f}")
        whole_day(faulty)
        for label, path in (("healthy", healthy), ("lost tooth", faulty)):
            best = min(_timed(path) for _ in range(REPEATS))
            print(f"  once it runs, {label:10s} {best:6.2f} s")
        drawn = frames(healthy)
        print(f"Drive view: slowest of {len(drawn)} frames {max(drawn):.0f} ms, middle {sorted(drawn)[30]:.0f} ms")
        print(f"Window on screen after {window_seconds():.2f} s")


def _timed(path: Path) -> float:
    began = time.perf_counter()
    analyze_file(path)
    return time.perf_counter() - began


if __name__ == "__main__":
    main()
