"""How far what was learnt in the shipped simulator holds in a world that it never made.

python -m benchmarks.elsewhere [DRIVES] [FIRST_SEED]

"exact" counts a tyre for a ring with other teeth where that ratio may be either, and an axle for its
mirror image; "visible" asks for a change well over the noise of the sound twin.
"""

from __future__ import annotations

import argparse
from concurrent.futures import ProcessPoolExecutor

import numpy as np
from scipy.ndimage import median_filter

from benchmarks.reliability import reliability
from benchmarks.second_world import FAULTS, Drawn, draw
from benchmarks.visible import LEAST_NOISE, TREND_S, VISIBLE_SIGMAS
from nodrek.core.corners import map_corners
from nodrek.core.model import Corner, Fault, Finding, RawLog, Vehicle
from nodrek.core.motion.reference import Q80_TO_SIGMA
from nodrek.core.verdict.judge import FAULTY_FROM, analyze_log
from nodrek.io.knowledge import shipped_calibration

FIRST_SEED = 1_000
RATES_HZ = (50.0, 10.0, 4.0)
HEALTHY_FOR_ONE = 4
"""So many sound drives for each fault of a kind: false alarms are rare."""


def one_drive(seed: int, kind: str, rate_hz: float) -> tuple[bool, bool, bool, list[tuple[float, bool]]]:
    """Visible, exact (of a sound drive: cried for nothing), right corner; each finding with whether it is right."""
    drawn = draw(seed, kind, rate_hz)
    analysis, _ = analyze_log(map_corners(drawn.log), Vehicle(), lambda share, doing: None, shipped_calibration())
    said = [(f.confidence, _is_right(f, drawn)) for f in analysis.findings]
    sure = [f for f in analysis.findings if f.confidence >= FAULTY_FROM]
    if drawn.fault is None:
        return True, bool(sure), True, said
    exact = any(_is_right(f, drawn) for f in sure)
    corner = exact or set(drawn.corners) <= {c for f in sure for c in f.corners}
    return _is_visible(drawn, draw(seed, kind, rate_hz, faulty=False).log), exact, corner, said


def _is_right(finding: Finding, drawn: Drawn) -> bool:
    odd_ratio = {Fault.RING_COUNT, Fault.TYRE_SIZE}
    mirrored = len(drawn.corners) == 2 and len(finding.corners) == 2 and finding.corners[0].mate is finding.corners[1]
    same = finding.fault is drawn.fault or (finding.fault in odd_ratio and drawn.fault in odd_ratio)
    return same and (mirrored or set(finding.corners) == set(drawn.corners))


def _is_visible(drawn: Drawn, sound: RawLog) -> bool:
    seen = 0.0
    for corner in drawn.corners:
        at = list(Corner).index(corner)
        faulty, clean = drawn.log.channels[at].values, sound.channels[at].values
        rate = clean.size / float(sound.channels[at].times_s[-1])
        rest = clean - np.median([c.values for k, c in enumerate(sound.channels) if k != at], axis=0)
        rest = rest - median_filter(rest, size=max(5, int(TREND_S * rate) | 1))
        noise = max(float(np.quantile(np.abs(rest), 0.8)) / Q80_TO_SIGMA, LEAST_NOISE)
        seen = max(seen, float(np.sqrt(np.sum(((faulty - clean) / noise) ** 2))))
    # two roundings of one number differ as well: asked for is more than such differences make
    return seen >= 4.0 * VISIBLE_SIGMAS


def main(drives: int, first_seed: int) -> None:
    print(f"{'second world':22s} {'rate':>5s} {'n':>4s} {'visible':>8s} {'exact':>6s} {'corner':>7s} {'alarms':>7s}")
    said: list[tuple[float, bool]] = []
    with ProcessPoolExecutor(max_workers=2) as pool:
        for rate in RATES_HZ:
            everything = []
            for place, kind in enumerate(FAULTS):
                count = drives * (HEALTHY_FOR_ONE if kind == "healthy" else 1)
                seeds = range(first_seed + 1_000 * place, first_seed + 1_000 * place + count)
                done = list(pool.map(one_drive, seeds, [kind] * count, [rate] * count, chunksize=2))
                said += [pair for *_, pairs in done for pair in pairs]
                seen = [d for d in done if d[0]]
                label = f"{kind:22s} {rate:5.0f} {count:4d}"
                if kind == "healthy":
                    print(f"{label} {'':8s} {'':6s} {'':7s} {100 * np.mean([d[1] for d in done]):7.1f}", flush=True)
                    continue
                everything += seen
                print(f"{label} {len(seen):8d} {_share(seen, 1):6.1f} {_share(seen, 2):7.1f}", flush=True)
            print(f"{'all visible':22s} {rate:5.0f} {'':4s} {len(everything):8d} {_share(everything, 1):6.1f} "
                  f"{_share(everything, 2):7.1f}")  # fmt: skip
    pairs = np.array(said, dtype=float)
    seen_bands = reliability(pairs[:, 0], pairs[:, 1])
    print(f"All findings of 0.2 and more: calibration error {seen_bands.error:.3f}, Brier score {seen_bands.brier:.3f}")


def _share(done: list[tuple[bool, bool, bool, list[tuple[float, bool]]]], what: int) -> float:
    return 100.0 * float(np.mean([d[what] for d in done])) if done else float("nan")


if __name__ == "__main__":
    asked = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    asked.add_argument("drives", type=int, nargs="?", default=12, help="of each kind of fault")
    asked.add_argument("first_seed", type=int, nargs="?", default=FIRST_SEED)
    main(**vars(asked.parse_args()))
