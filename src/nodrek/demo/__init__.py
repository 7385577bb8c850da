"""The demo job: four post vans of an island, logs made by the simulated vehicle with fixed seeds."""

from __future__ import annotations

from importlib import resources
from pathlib import Path

DEMOS: tuple[tuple[str, str], ...] = (
    ("island-van-lost-tooth", "Van 3: pedal pulses just before it stops"),
    ("island-van-wrong-tyre", "Van 5: stability lamp since the new tyres"),
    ("island-van-broken-lead", "Van 2: lamps flicker over the cobbles"),
    ("island-van-healthy", "Van 7: after its service, for comparison"),
)
"""Name of the log and its complaint in a few words; the first is what `--demo` opens."""


def demo_log(name: str) -> Path:
    """Path of a demo log."""
    return Path(str(resources.files("nodrek.demo").joinpath(f"{name}.csv")))
