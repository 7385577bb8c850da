"""Mutated logs through the one door, until something else than a log or a sentence comes out.

python -m tools.fuzz MINUTES [FOLDER FOR FINDS]
"""

from __future__ import annotations

import random
import resource
import sys
import tempfile
import time
import traceback
from pathlib import Path

from nodrek.core.corners import map_corners
from nodrek.core.model import Vehicle
from nodrek.core.verdict.judge import analyze_log
from nodrek.errors import NodrekError
from nodrek.io.logs.read import read_log
from nodrek.jobs.analyze import request_for

LARGEST_BYTES = 12 * 1024**3
"""Address space: a small file that wants more is a find, not the end of the machine."""
SLOW_S = 30.0
"""A mutated small file that takes longer is a find as well."""


def corpus(folder: Path) -> list[Path]:
    """One sound file of each kind, written by the tests' independent writers."""
    sys.path.insert(0, str(Path(__file__).parents[1] / "tests" / "io"))
    import gzip
    import zipfile

    import can
    import test_dialects
    import test_measurement_files as measured

    for name, write in measured.WRITERS.items():
        write(folder / name)
    for k, content in enumerate(test_dialects.DIALECTS.values()):
        (folder / f"text-{k}.csv").write_bytes(content if isinstance(content, bytes) else content.encode())
    for name in ("bus.log", "bus.asc", "bus.blf", "bus.trc"):
        with can.Logger(folder / name) as out:
            for message in measured.wheel_frames():
                out(message)
    (folder / "packed.csv.gz").write_bytes(gzip.compress(test_dialects.PLAIN.encode()))
    with zipfile.ZipFile(folder / "packed.zip", "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("log.csv", test_dialects.PLAIN)
    (folder / "bus.dbc").write_text(measured.DBC)
    return [p for p in sorted(folder.iterdir()) if p.suffix != ".dbc"]


def mutate(content: bytes, rng: random.Random) -> bytes:
    """A few wounds: flipped, lost, doubled, foreign and swapped bytes, and cuts."""
    data = bytearray(content)
    for _ in range(rng.choice((1, 2, 4, 8, 32))):
        if not data:
            break
        at = rng.randrange(len(data))
        kind = rng.randrange(7)
        if kind == 0:
            data[at] = rng.randrange(256)
        elif kind == 1:
            del data[at : at + rng.randrange(1, 64)]
        elif kind == 2:
            data[at:at] = data[at : at + rng.randrange(1, 256)]
        elif kind == 3:
            data[at:at] = rng.choice((b"\x00", b"\xff" * 8, b"NaN", b"1e999", b'"', b";", b"\r", b"-" * 40, b"\n" * 9))
        elif kind == 4:
            data[at : at + 4] = rng.randrange(2**32).to_bytes(4, "little")
        elif kind == 5:
            other = rng.randrange(len(data))
            data[at : at + 32], data[other : other + 32] = data[other : other + 32], data[at : at + 32]
        elif rng.random() < 0.2:
            del data[at:]
    return bytes(data)


def main(minutes: float, finds: Path) -> int:
    finds.mkdir(parents=True, exist_ok=True)
    rng = random.Random(time.time_ns())
    tried = found = 0
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        files = corpus(folder)
        request = request_for(None, (folder / "bus.dbc",))
        resource.setrlimit(resource.RLIMIT_AS, (LARGEST_BYTES, LARGEST_BYTES))
        end = time.monotonic() + 60 * minutes
        while time.monotonic() < end:
            source = rng.choice(files)
            victim = folder / f"victim{''.join(source.suffixes)}"
            victim.write_bytes(mutate(source.read_bytes(), rng))
            began = time.monotonic()
            tried += 1
            try:
                log = map_corners(read_log(victim, request))
                analyze_log(log, Vehicle(), lambda share, doing: None)
            except NodrekError:
                pass
            except BaseException as error:
                if isinstance(error, KeyboardInterrupt):
                    raise
                found += 1
                (finds / f"{found}-{source.name}").write_bytes(victim.read_bytes())
                traceback.print_exc()
            if time.monotonic() - began > SLOW_S:
                found += 1
                (finds / f"{found}-slow-{source.name}").write_bytes(victim.read_bytes())
    print(f"{tried} files, {found} finds")
    return 1 if found else 0


if __name__ == "__main__":
    arguments = sys.argv[1:]
    sys.exit(main(float(arguments[0]) if arguments else 60.0, Path(arguments[1] if len(arguments) > 1 else "finds")))
