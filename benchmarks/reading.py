"""Reading hours of log against the bare libraries in the same run: time and peak memory.

Each reading runs in a process of its own, in turn, so that all share the machine's moods;
memory is the peak of that process above what the imports alone need, over the bytes of
the arrays that come back.
"""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np

HOURS = 8.0
RATE_HZ = 100.0
REPEATS = 3
NAMES = ("Wheel speed FL", "Wheel speed FR", "Wheel speed RL", "Wheel speed RR")

_MEASURE = """
import json, resource, sys, time
{imports}
def high():
    # of this image only: the figure of getrusage survives exec
    line = next(s for s in open("/proc/self/status") if s.startswith("VmHWM"))
    return int(line.split()[1])
base = high()
began = time.perf_counter()
{work}
seconds = time.perf_counter() - began
peak = max(high(), resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)
print(json.dumps([seconds, (peak - base) * 1024, size]))
"""
_OURS = (
    "import numpy, polars, asammdf\nfrom pathlib import Path\nfrom nodrek.io.logs.read import read_log",
    "raw = read_log(Path(sys.argv[1]))\n"
    "arrays = {id(a): a for c in raw.channels for a in (c.times_s, c.values)}\n"
    "size = sum(a.nbytes for a in arrays.values())",
)
_BARE = {
    "csv": ("import polars", "t = polars.read_csv(sys.argv[1])\nsize = t.estimated_size()"),
    "parquet": ("import polars", "t = polars.read_parquet(sys.argv[1])\nsize = t.estimated_size()"),
    "mf4": (
        "import asammdf, numpy",
        "m = asammdf.MDF(sys.argv[1])\n"
        f"s = [m.get(n) for n in {NAMES!r}]\n"
        "size = sum(x.samples.nbytes for x in s) + s[0].timestamps.nbytes",
    ),
}


def write_logs(folder: Path) -> dict[str, Path]:
    """The same drive as CSV, Parquet and MDF 4."""
    import polars as pl
    from asammdf import MDF, Signal

    rng = np.random.default_rng(5)
    count = int(HOURS * 3600 * RATE_HZ)
    times = np.round(np.arange(count) / RATE_HZ, 3)
    base = 60.0 + 25.0 * np.sin(times / 97.0) + 12.0 * np.sin(times / 13.0)
    speeds = {n: np.round(base * (1 + 0.002 * rng.standard_normal(count)), 2) for n in NAMES}
    table = pl.DataFrame({"time [s]": times, **{f"{n} [km/h]": v for n, v in speeds.items()}})
    table.write_csv(folder / "long.csv")
    table.write_parquet(folder / "long.parquet")
    with MDF(version="4.10") as mdf:
        mdf.append([Signal(samples=v, timestamps=times, name=n, unit="km/h") for n, v in speeds.items()])
        mdf.save(folder / "long.mf4")
    return {kind: folder / f"long.{kind}" for kind in _BARE}


def measure(parts: tuple[str, str], path: Path) -> tuple[float, float]:
    """Seconds, and peak bytes over the bytes returned."""
    code = _MEASURE.format(imports=parts[0], work=parts[1])
    done = subprocess.run([sys.executable, "-c", code, str(path)], check=True, capture_output=True, text=True)
    seconds, peak, size = json.loads(done.stdout.splitlines()[-1])
    return seconds, peak / size


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        logs = write_logs(Path(name))
        print(f"{HOURS:g} hours at {RATE_HZ:g} Hz, four corners; best of {REPEATS}")
        for kind, path in logs.items():
            ours, bare = [], []
            for _ in range(REPEATS):
                bare.append(measure(_BARE[kind], path))
                ours.append(measure(_OURS, path))
            own, library = min(ours), min(bare)
            print(
                f"  {kind:8s} {own[0]:6.2f} s against {library[0]:6.2f} s of the library: {own[0] / library[0]:5.2f}; "
                f"peak over arrays {own[1]:5.2f} against {library[1]:5.2f}"
            )


if __name__ == "__main__":
    main()
