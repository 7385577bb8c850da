"""The command line as scripts use it: the contract's JSON, exit codes, one sentence on error."""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from nodrek.core.model import RawChannel, RawLog
from nodrek.errors import BadRequest, Cancelled
from nodrek.io.contract.schema import AnalysisModel
from nodrek.io.vehicle import read_vehicle
from nodrek.jobs.analyze import analyze_file

Writer = Callable[..., Path]


def run(*arguments: object) -> subprocess.CompletedProcess[str]:
    command = [sys.executable, "-m", "nodrek", *map(str, arguments)]
    return subprocess.run(command, capture_output=True, text=True, timeout=120, check=False)


def refused(*arguments: object) -> str:
    """The one sentence of a command that must be refused."""
    done = run(*arguments)
    assert done.returncode == 2, done.stderr
    assert done.stdout == ""
    assert "Traceback" not in done.stderr
    return done.stderr


def test_json_is_what_the_contract_says(lost_tooth_raw: RawLog, log_file: Writer) -> None:
    path = log_file(lost_tooth_raw)
    done = run("analyze", path, "--json")
    assert done.returncode == 0
    assert done.stderr == ""
    document = json.loads(done.stdout)
    AnalysisModel.model_validate(document)
    assert document["source"]["path"] == str(path)
    assert document["verdict"] == "faulty"
    assert document["findings"][0]["fault"] == "ring_damage"
    assert document["findings"][0]["corners"] == ["RL"]
    confidences = [f["confidence"] for f in document["findings"]]
    assert confidences == sorted(confidences, reverse=True)
    product = np.prod([c["ratio"] for c in document["corners"].values()])
    assert product == pytest.approx(1.0, abs=1e-4)
    assert document["channels"]["FL"]["samples"] == lost_tooth_raw.channels[0].values.size


def test_an_independent_speed_is_taken_by_name(healthy_raw: RawLog, log_file: Writer) -> None:
    first = healthy_raw.channels[0]
    sky = RawChannel("Sky speed", "km/h", first.times_s, first.values / 0.95)
    path = log_file(RawLog((*healthy_raw.channels, sky), "test"))
    done = run("analyze", path, "--json", "--map", "REF=Sky speed")
    assert [f["corners"] for f in json.loads(done.stdout)["findings"]] == [["FL", "FR", "RL", "RR"]]
    assert "no column" in refused("analyze", path, "--map", "REF=Elsewhere")
    assert "twice" in refused("analyze", path, "--map", "REF=a", "--map", "REF=b")


def test_text_names_corner_and_fault(lost_tooth_raw: RawLog, log_file: Writer) -> None:
    done = run("analyze", log_file(lost_tooth_raw))
    assert done.returncode == 0
    assert "rear left ring" in done.stdout


def test_part_of_a_log(healthy_raw: RawLog, log_file: Writer) -> None:
    answer = analyze_file(log_file(healthy_raw), start=20.0, stop=80.0)
    assert answer.log.duration == pytest.approx(60.0)
    assert max(float(c.times[-1]) for c in answer.log.channels.values()) <= 60.0
    with pytest.raises(BadRequest, match="holds nothing"):
        analyze_file(log_file(healthy_raw), start=500.0)


def test_mapping_by_hand_renames_the_corner(lost_tooth_raw: RawLog, log_file: Writer) -> None:
    """The bad column is called RL; told that it is FL, the finding moves with it."""
    path = log_file(lost_tooth_raw)
    maps = ["FL=Wheel speed RL", "RL=Wheel speed FL"]
    done = run("analyze", path, "--json", *(part for m in maps for part in ("--map", m)))
    assert json.loads(done.stdout)["findings"][0]["corners"] == ["FL"]


def standing(rows: int = 300) -> str:
    return "time [s],FL [km/h],FR [km/h]\n" + "\n".join(f"{k * 0.05:.2f},0.0,0.0" for k in range(rows))


BAD_LOGS = {
    "no wheel speeds": ("time,engine,oil\n" + "\n".join(f"{k},{k * 9 % 40},80" for k in range(50)), "No wheel speeds"),
    "one corner": ("time,FL,oil\n" + "\n".join(f"{k},{k},80" for k in range(50)), "at least two corners"),
    "never moves": (standing(), "never moves"),
    "not a log": ("hello\nworld\n" * 20, "not a log"),
    "empty": ("", "empty"),
}


@pytest.mark.parametrize("name", BAD_LOGS)
def test_bad_logs_get_one_sentence(tmp_path: Path, name: str) -> None:
    content, says = BAD_LOGS[name]
    path = tmp_path / "bad.csv"
    path.write_text(content)
    sentence = refused("analyze", path, "--json")
    assert says in sentence
    assert sentence.count("\n") == 1


def test_a_library_does_not_talk_beside_the_sentence(tmp_path: Path) -> None:
    path = tmp_path / "bad.trc"
    path.write_text(";$FILEVERSION=1.1\n1)      2.0  Rx  0120  8  00 01\n2)   x  Rx\n")
    assert refused("analyze", path).count("\n") == 1


def test_wrong_use_is_refused(healthy_raw: RawLog, log_file: Writer, tmp_path: Path) -> None:
    path = log_file(healthy_raw)
    assert "CORNER=NAME" in refused("analyze", path, "--map", "XX=a")
    assert "no column" in refused("analyze", path, "--map", "FL=nothing")
    assert "twice" in refused("analyze", path, "--map", "FL=Wheel speed FL", "--map", "FL=Wheel speed FR")
    assert "holds nothing" in refused("analyze", path, "--from", "50", "--to", "20")
    assert "no scenario" in refused("simulate", "moon-buggy", "-o", tmp_path / "x.csv")
    assert "cannot be written" in refused("simulate", "island-van-healthy", "-o", tmp_path / "no" / "x.csv")
    assert "Missing argument" in refused("analyze")
    assert "--from" in refused("analyze", path, "--from", "soon")
    assert "frobnicate" in refused("frobnicate")
    vehicle = tmp_path / "vehicle.json"
    vehicle.write_text('{"teeth": "many"}')
    assert "teeth" in refused("analyze", path, "--vehicle", vehicle)


@pytest.mark.parametrize(
    ("text", "says"),
    [("[1]", "object"), ("{", "not JSON"), ('{"driven": "wind"}', "driven"), ('{"track_m": 99}', "track_m")],
)
def test_wrong_vehicles_name_the_key(tmp_path: Path, text: str, says: str) -> None:
    path = tmp_path / "vehicle.json"
    path.write_text(text)
    with pytest.raises(Exception, match=says):
        read_vehicle(path)


def test_vehicle_of_a_case_file_is_taken(tmp_path: Path) -> None:
    path = tmp_path / "case.json"
    path.write_text('{"schema": "nodrek.case/1", "vehicle": {"teeth": 44, "driven": "rear", "unknown": 1}}')
    vehicle = read_vehicle(path)
    assert vehicle.teeth == 44
    assert vehicle.driven == "rear"


def test_simulate_writes_a_log_that_analyze_reads(tmp_path: Path) -> None:
    path = tmp_path / "van.csv"
    assert run("simulate", "island-van-wrong-tyre", "-o", path, "--seed", "9").returncode == 0
    answer = analyze_file(path)
    assert answer.analysis.findings[0].fault == "tyre_size"


def test_a_job_stops_when_its_progress_says_so(healthy_raw: RawLog, log_file: Writer) -> None:
    def stop(share: float, doing: str) -> None:
        if share > 0.3:
            raise Cancelled("Stopped.")

    with pytest.raises(Cancelled):
        analyze_file(log_file(healthy_raw), progress=stop)
