"""`nodrek diagnose`: logs of every role, wrong inputs, the technician's own order."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from typer.testing import CliRunner

from nodrek.cli.app import app
from nodrek.core.model import Corner
from nodrek.core.model.case import Cause, CheckKind
from nodrek.core.model.diagnosis import Diagnosis
from nodrek.errors import NodrekError
from nodrek.io.contract.schema import DiagnosisModel
from nodrek.jobs.diagnose import diagnose_file
from nodrek.simulate.chain import simulate
from nodrek.simulate.faults import Cause as Hidden
from nodrek.simulate.faults import SimulatedFault
from nodrek.simulate.vary import draw_scenario

CASE = {"schema": "nodrek.case/1"}


@pytest.fixture(scope="module")
def logs(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder with a drive before, one after, and wheels turned on stands."""
    from nodrek.io.logs.write import write_csv

    folder = tmp_path_factory.mktemp("job")
    usual = {"rates_hz": (50.0,), "duration_s": 120.0, "control_units": ("span",)}
    for name, faults in (("before", (SimulatedFault(Corner.RL, Hidden.MISSING_TEETH),)), ("after", ())):
        write_csv(simulate(draw_scenario(19, faults, **usual)), folder / f"{name}.csv")
    times = np.arange(0.0, 62.0, 0.1)
    rows = ["time,FL,FR,RL,RR (km/h)".replace("FL,FR,RL,RR (km/h)", ",".join(f"{c.value} [km/h]" for c in Corner))]
    speeds = [9.0 * np.sin(np.pi * np.clip((times - 4 - 14 * k) / 9.0, 0, 1)) * (k != 2) for k in range(4)]
    rows += [f"{t:.1f}," + ",".join(f"{v[i]:.2f}" for v in speeds) for i, t in enumerate(times)]
    (folder / "spin.csv").write_text("\n".join(rows))
    (folder / "letter.csv").write_text("Dear Sir,\nno log here.\n")
    return folder


def diagnosed(folder: Path, **parts: object) -> Diagnosis:
    file = folder / "job.nodrek.json"
    file.write_text(json.dumps({**CASE, **parts}))
    return diagnose_file(file)[0]


def test_a_log_is_evidence_and_the_drive_after_is_not(logs: Path) -> None:
    both = [{"path": "before.csv", "role": "before"}, {"path": "after.csv", "role": "after"}]
    result = diagnosed(logs, logs=both)
    assert result.corners == (Corner.RL,)
    assert result.of(Corner.RL)[0].cause is Cause.RING_DAMAGED
    assert any(w.startswith("log 'after.csv' after the repair: healthy") for w in result.warnings)
    assert diagnosed(logs, logs=both[1:]).corners == ()


def test_the_vehicle_of_the_case_helps_to_read_its_logs(logs: Path) -> None:
    """The number of teeth goes into the comparison; one that makes no sense is refused with its place."""
    used: list[object] = []
    with pytest.MonkeyPatch.context() as patch:
        import nodrek.jobs.analyze as job

        real = job.analyze_log
        patch.setattr(job, "analyze_log", lambda log, vehicle, *rest: used.append(vehicle) or real(log, vehicle, *rest))
        diagnosed(logs, vehicle={"teeth": 47, "driven": "rear"}, logs=[{"path": "before.csv"}])
    assert [(v.teeth, v.driven) for v in used] == [(47, "rear")]  # type: ignore[attr-defined]
    with pytest.raises(NodrekError, match=r"job\.nodrek\.json: vehicle\.teeth must be a number"):
        diagnosed(logs, vehicle={"teeth": "many"})


def test_a_finding_noted_beside_its_log_counts_once(logs: Path) -> None:
    noted = [{"fault": "ring_damage", "corners": ["RL"], "confidence": 0.9}]
    log = [{"path": "before.csv"}]
    one, two = diagnosed(logs, logs=log), diagnosed(logs, logs=log, findings=noted)
    assert two.of(Corner.RL)[0].probability == pytest.approx(one.of(Corner.RL)[0].probability)


def test_wheels_turned_on_stands_answer_the_spin_check(logs: Path) -> None:
    codes = [{"corner": "RL", "kind": "no_signal"}]
    result = diagnosed(logs, codes=codes, logs=[{"path": "spin.csv", "role": "spin"}])
    assert any(r.text == "spin_by_hand: zero" for r in result.of(Corner.RL)[0].because)
    assert CheckKind.SPIN_BY_HAND not in {n.info.kind for n in result.next_checks if n.corner is Corner.RL}


@pytest.mark.parametrize("name", ["../secret.csv", "/etc/hostname", "nothing.csv", "letter.csv", "\0", "a" * 3000, "."])
def test_logs_that_cannot_be_read_become_warnings(logs: Path, name: str) -> None:
    codes = [{"corner": "FL", "kind": "circuit"}]
    result = diagnosed(logs, codes=codes, logs=[{"path": name}])
    assert result.corners == (Corner.FL,)
    assert len([w for w in result.warnings if w.startswith("log ")]) == 1
    assert all(len(w) < 600 for w in result.warnings)


def test_a_link_out_of_the_folder_is_not_followed(logs: Path, tmp_path: Path) -> None:
    outside = tmp_path / "outside.csv"
    outside.write_bytes((logs / "before.csv").read_bytes())
    (logs / "link.csv").symlink_to(outside)
    result = diagnosed(logs, logs=[{"path": "link.csv"}])
    assert "outside the case's folder" in result.warnings[0]


def run(*words: str) -> tuple[int, str]:
    done = CliRunner().invoke(app, list(words), standalone_mode=False)
    if isinstance(done.exception, NodrekError):
        return 2, str(done.exception)
    assert done.exception is None, done.exception
    return done.exit_code, done.output


def test_the_technicians_own_order_has_its_price(logs: Path) -> None:
    file = logs / "own.nodrek.json"
    file.write_text(
        json.dumps({**CASE, "codes": [{"corner": "FL", "kind": "circuit"}], "prices": {"hour": 60, "sensor": 40}})
    )
    code, text = run("diagnose", str(file), "--json", "--order", "swap_sensors", "--order", "scope_shape")
    assert code == 0
    told = json.loads(text)
    DiagnosisModel.model_validate(told)
    minutes = {p["name"]: p["minutes"] for p in told["policies"]}
    assert minutes["own order"] > minutes["proof first"]
    code, text = run("diagnose", str(file), "--order", "kick_it")
    assert code == 2
    assert "no such check" in text


def test_a_case_with_nothing_in_it(logs: Path) -> None:
    file = logs / "empty.nodrek.json"
    file.write_text(json.dumps(CASE))
    code, text = run("diagnose", str(file))
    assert code == 0
    assert "No corner is suspected yet" in text
    code, text = run("diagnose", str(file), "--json")
    told = json.loads(text)
    assert (told["causes"], told["settled"], told["policies"]) == ([], False, [])


@pytest.mark.parametrize("text", ["", "no json", "[1]", '{"schema": 3}', '{"schema": "nodrek.case/1", "codes": 4}'])
def test_what_is_no_case_is_one_sentence(tmp_path: Path, text: str) -> None:
    file = tmp_path / "x.nodrek.json"
    file.write_text(text)
    code, said = run("diagnose", str(file))
    assert code == 2
    assert "\n" not in said
    assert str(file) in said


def test_a_folder_and_nothing_at_all(tmp_path: Path) -> None:
    for path in (tmp_path, tmp_path / "missing.json"):
        code, said = run("diagnose", str(path))
        assert code == 2
        assert str(path) in said


def test_words_for_the_terminal(logs: Path) -> None:
    file = logs / "words.nodrek.json"
    file.write_text(json.dumps({**CASE, "codes": [{"text": "C0031-13 current"}]}))
    code, text = run("diagnose", str(file))
    assert code == 0
    assert "Front left:" in text
    assert "Clear the codes and wait, standing still  (3 min, code reader)" in text
    assert "Caution:" in text
    assert "Proof first:" in text
