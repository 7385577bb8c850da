"""Write the log of a simulated drive."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from nodrek.io.logs.write import write_csv
from nodrek.simulate.chain import simulate
from nodrek.simulate.scenario import load_scenario


def simulate_to_file(scenario: str, output: Path, seed: int | None = None) -> tuple[str, int]:
    """Title of the scenario and number of rows written; raises `BadRequest`."""
    chosen = load_scenario(scenario)
    if seed is not None:
        chosen = replace(chosen, seed=seed)
    log = simulate(chosen)
    write_csv(log, output)
    return chosen.title, int(max(c.times_s.size for c in log.channels))
