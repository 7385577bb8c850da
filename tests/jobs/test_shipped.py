"""What ships with the program: demo logs, scenarios, fonts, documents, pins."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path

import numpy as np
import pytest

import nodrek
from nodrek.cli.show import answer_text
from nodrek.core.corners import map_corners
from nodrek.core.model import Corner, Fault, Verdict
from nodrek.demo import DEMOS, demo_log
from nodrek.io.logs.formats import FORMATS
from nodrek.io.logs.read import read_log
from nodrek.jobs.analyze import analyze_file
from nodrek.jobs.columns import POINTS, look_at_columns
from nodrek.simulate.chain import simulate
from nodrek.simulate.scenario import load_scenario, shipped

ROOT = Path(nodrek.__file__).parents[2]
ANSWERS = {
    "island-van-lost-tooth": (Fault.RING_DAMAGE, Corner.RL),
    "island-van-wrong-tyre": (Fault.TYRE_SIZE, Corner.FR),
    "island-van-broken-lead": (Fault.INTERMITTENT, Corner.FL),
    "island-van-healthy": None,
}


@pytest.mark.parametrize("name", ANSWERS)
def test_demo_logs_are_what_their_scenario_gives(name: str) -> None:
    """Fixed seeds: the shipped file is the simulated drive, to the last digit it is written with."""
    fresh = simulate(load_scenario(name))
    kept = read_log(demo_log(name))
    for a, b in zip(fresh.channels, kept.channels, strict=True):
        assert a.name == b.name
        np.testing.assert_allclose(b.values, a.values, atol=1e-5)


@pytest.mark.parametrize("name", ANSWERS)
def test_demo_logs_tell_their_story_and_nothing_else(name: str) -> None:
    answer = analyze_file(demo_log(name))
    sure = [(f.fault, f.corners[0]) for f in answer.analysis.findings if f.confidence >= 0.5]
    wanted = ANSWERS[name]
    assert sure == ([wanted] if wanted else [])
    assert answer.analysis.verdict is (Verdict.FAULTY if wanted else Verdict.HEALTHY)
    text = answer_text(answer)
    assert all(corner in text for corner in Corner)
    assert ("Nothing found" in text) is (wanted is None)
    assert max(map(len, text.splitlines())) <= 80
    assert "100 %" not in text


def test_demos_and_scenarios_belong_together() -> None:
    assert {name for name, _ in DEMOS} == set(ANSWERS) == set(shipped())


def test_columns_are_thinned_for_the_eye() -> None:
    columns = look_at_columns(demo_log("island-van-healthy"))
    assert len(columns.columns) == 4
    assert all(c.trace.size == POINTS for c in columns.columns)
    assert set(columns.suggested) == set(Corner)


def test_documents_link_to_what_is_there() -> None:
    for document in [ROOT / "README.md", *(ROOT / "docs").glob("*.md")]:
        for target in re.findall(r"\]\((?!https?:)([^)#]+)\)", document.read_text(encoding="utf-8")):
            assert (document.parent / target).exists(), (document.name, target)
    assert len(list((ROOT / "docs" / "screenshots").iterdir())) < 20


def test_every_format_stands_in_the_document() -> None:
    text = (ROOT / "docs" / "formats.md").read_text(encoding="utf-8").lower()
    for entry in FORMATS:
        assert entry.name.split()[0].replace("bus", "bus log").replace("csv", "text") in text or entry.name in text


def test_pins_are_hashed_and_name_no_index() -> None:
    lock = (ROOT / "requirements.lock").read_text(encoding="utf-8")
    assert "--index" not in lock
    assert "http" not in lock
    blocks = re.split(r"\n(?=\S)", lock.strip())
    pins = [b for b in blocks if "==" in b]
    assert len(pins) > 40
    assert all("--hash=sha256:" in b for b in pins)


def test_what_is_imported_is_declared() -> None:
    project = tomllib.loads((ROOT / "pyproject.toml").read_text(encoding="utf-8"))["project"]
    declared = {re.split(r"[<>=]", d)[0].lower().replace("-", "_") for d in project["dependencies"]}
    names = {"can": "python_can", "python_calamine": "python_calamine", "PySide6": "pyside6_essentials"}
    imported = set()
    for source in (ROOT / "src").rglob("*.py"):
        for line in source.read_text(encoding="utf-8").splitlines():
            match = re.match(r"\s*(?:from|import) ([A-Za-z_0-9]+)", line)
            if match and line.strip().startswith(("from", "import")) and " import " in f" {line.strip()} ":
                imported.add(match[1])
    outside = {
        names.get(m, m).lower() for m in imported
        if m in ("numpy", "scipy", "polars", "PySide6", "pyqtgraph", "typer", "click", "pydantic", "platformdirs",
                 "asammdf", "can", "cantools", "nptdms", "h5py", "python_calamine")
    }  # fmt: skip
    assert outside <= declared


def test_parts_of_a_log_keep_the_answer() -> None:
    """Both halves of the drive name the same corner and fault as the whole."""
    path = demo_log("island-van-lost-tooth")
    whole = analyze_file(path)
    for start, stop in ((0.0, 120.0), (120.0, 240.0)):
        half = analyze_file(path, start=start, stop=stop)
        assert half.analysis.findings[0].fault is whole.analysis.findings[0].fault
        assert half.analysis.findings[0].corners == whole.analysis.findings[0].corners


def test_reading_twice_gives_the_same_answer() -> None:
    path = demo_log("island-van-broken-lead")
    first, second = analyze_file(path), analyze_file(path)
    assert first.source.sha256 == second.source.sha256
    assert [f.confidence for f in first.analysis.findings] == [f.confidence for f in second.analysis.findings]
    assert map_corners(read_log(path)).corners == first.log.corners
