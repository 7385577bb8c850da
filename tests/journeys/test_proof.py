"""From complaint to proof through the real window, and through the real command line."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QApplication, QLabel, QLineEdit, QPushButton
from pytestqt.qtbot import QtBot

from nodrek.core.model import Corner
from nodrek.core.model.case import Case, Cause, CheckKind, LoomReading, SensorKind
from nodrek.demo import demo_log
from nodrek.desktop.controller import Controller
from nodrek.desktop.state.screen import Place, View
from nodrek.desktop.views.theme import TARGET, load_fonts
from nodrek.io.contract.case import read_case
from nodrek.io.contract.schema import DiagnosisModel


def opened(qtbot: QtBot, folder: Path) -> Controller:
    app = QApplication.instance()
    assert isinstance(app, QApplication)
    load_fonts()
    made = Controller(app, folder / "settings.json")
    qtbot.addWidget(made.window)
    made.window.show()
    return made


@pytest.fixture
def controller(qtbot: QtBot, tmp_path: Path) -> Iterator[Controller]:
    made = opened(qtbot, tmp_path)
    yield made
    made.runner.wait(5.0)
    made.costs.wait(5.0)


def press(controller: Controller, qtbot: QtBot, *words: str) -> None:
    """Press visible buttons by their words."""

    def fitting(told: str) -> list[QPushButton]:
        return [
            b for b in controller.window.findChildren(QPushButton)
            if b.isVisible() and told in (b.text(), b.text().replace("\n", " "), b.text().removeprefix("✓  "))
        ]  # fmt: skip

    for told in words:
        qtbot.waitUntil(lambda t=told: bool(fitting(t)), timeout=5_000)
        button = fitting(told)[0]
        assert button.height() >= TARGET
        qtbot.mouseClick(button, Qt.MouseButton.LeftButton)
        qtbot.wait(20)


def texts(controller: Controller) -> str:
    return "\n".join(label.text() for label in controller.window.findChildren(QLabel) if label.isVisible())


def go(controller: Controller, qtbot: QtBot, place: Place) -> None:
    qtbot.mouseClick(controller.window.stations[place], Qt.MouseButton.LeftButton)
    qtbot.wait(30)


def case_of(controller: Controller) -> Case:
    return controller.session.bench.case


def test_complaint_codes_log_checks_settled(controller: Controller, qtbot: QtBot, tmp_path: Path) -> None:
    go(controller, qtbot, Place.COMPLAINT)
    press(controller, qtbot, "anti-lock", "worse over bumps", "active (fed by the unit)")
    assert case_of(controller).vehicle.sensor is SensorKind.ACTIVE

    go(controller, qtbot, Place.CODES)
    entry = next(e for e in controller.window.board.findChildren(QLineEdit) if e.placeholderText())
    qtbot.keyClicks(entry, "C0031-13 current")
    qtbot.keyClick(entry, Qt.Key.Key_Return)
    qtbot.wait(30)
    assert "Front left · electrical circuit · current" in texts(controller)

    controller.open(demo_log("island-van-broken-lead"))
    qtbot.waitUntil(lambda: controller.session.busy is None, timeout=30_000)
    qtbot.wait(50)
    go(controller, qtbot, Place.PROVE)
    assert "clear the codes and wait" in texts(controller)
    press(controller, qtbot, "Back only when moving")
    assert [(c.check, c.corner) for c in case_of(controller).checks] == [(CheckKind.CLEAR_AND_WAIT, Corner.FL)]

    controller.window.next.other_wanted.emit(CheckKind.WIGGLE, Corner.FL)
    qtbot.wait(30)
    press(controller, qtbot, "Changes")
    controller.window.next.other_wanted.emit(CheckKind.WIRE_CONTINUITY, Corner.FL)
    qtbot.wait(30)
    qtbot.keyClicks(controller.window.next._value, "4700")
    press(controller, qtbot, "Enter the value")
    controller.window.next.other_wanted.emit(CheckKind.LOOK_AT_LEAD, Corner.FL)
    qtbot.wait(30)
    press(controller, qtbot, "Green or wet pins")
    diagnosis = controller.session.bench.diagnosis
    assert diagnosis is not None
    assert diagnosis.settled
    assert diagnosis.of(Corner.FL)[0].cause is Cause.CONNECTOR_CORRODED
    assert "Settled." in texts(controller)
    controller.window.view_chosen.emit(View.REASONS)
    qtbot.wait(30)
    assert "A connector is corroded" in texts(controller)
    assert "Repair: Renew pins and seals" in texts(controller)
    assert "Caution: Ignition off before anything is unplugged." in texts(controller)

    # everything can be undone, step by step, and done again
    for _ in range(4):
        controller.window.undo_action.trigger()
    qtbot.wait(30)
    assert case_of(controller).checks == ()
    for _ in range(4):
        controller.window.redo_action.trigger()
    assert len(case_of(controller).checks) == 4

    # the file by hand, and the one that is kept without asking
    mine = tmp_path / "van.nodrek.json"
    controller.save_case(mine)
    assert len(read_case(mine).checks) == 4
    assert read_case(mine).findings[0].corners == (Corner.FL,)
    controller.keeper.flush()
    assert len(read_case(controller.keeper.path).checks) == 4


def test_a_crash_loses_nothing(qtbot: QtBot, tmp_path: Path) -> None:
    first = opened(qtbot, tmp_path)
    first.window.board.pressed.emit("lamps", "abs")
    first.window.board.typed.emit("C0034-31")
    first.keeper.flush()  # what the thread of the keeper does within milliseconds
    second = opened(qtbot, tmp_path)
    assert case_of(second) == case_of(first)
    assert second.session.bench.diagnosis is not None
    second.window.case_new_wanted.emit()
    second.keeper.flush()
    assert not case_of(opened(qtbot, tmp_path)).codes


def test_a_value_in_the_wrong_unit_is_asked_about(controller: Controller, qtbot: QtBot) -> None:
    go(controller, qtbot, Place.CODES)
    controller.window.board.pressed.emit("sensor", "passive")
    controller.window.board.pressed.emit("codes", "circuit")
    controller.window.next.other_wanted.emit(CheckKind.SENSOR_RESISTANCE, Corner.FL)
    qtbot.wait(30)
    qtbot.keyClicks(controller.window.next._value, "1.1")
    qtbot.keyClicks(controller.window.next._mate, "1120")
    press(controller, qtbot, "Enter the value")
    assert "a thousand times too small" in texts(controller)
    assert not case_of(controller).checks
    controller.window.next._value.clear()
    qtbot.keyClicks(controller.window.next._value, "1100")
    press(controller, qtbot, "Enter the value")
    assert case_of(controller).checks[0].value == 1100.0


def test_a_value_the_person_stands_by_counts(controller: Controller, qtbot: QtBot, tmp_path: Path) -> None:
    controller.window.board.pressed.emit("sensor", "passive")
    controller.window.board.pressed.emit("codes", "circuit")
    controller.window.next.other_wanted.emit(CheckKind.SENSOR_RESISTANCE, Corner.FL)
    controller.take_value(CheckKind.SENSOR_RESISTANCE, Corner.FL, 1.1, 1120.0)
    qtbot.wait(30)
    press(controller, qtbot, "It is right as typed")
    diagnosis = controller.session.bench.diagnosis
    assert diagnosis is not None
    assert any("sensor_resistance: 1.1 ohm" in r.text for r in diagnosis.of(Corner.FL)[0].because)
    assert not any("thousand" in w for w in diagnosis.warnings)
    controller.save_case(tmp_path / "kept.nodrek.json")
    assert read_case(tmp_path / "kept.nodrek.json").checks[0].confirmed


def test_a_case_that_is_opened_takes_nothing_from_the_log_on_screen(
    controller: Controller, qtbot: QtBot, tmp_path: Path
) -> None:
    """Another vehicle's log must neither become evidence nor be written into the file."""
    controller.open(demo_log("island-van-lost-tooth"))
    qtbot.waitUntil(lambda: controller.session.answer is not None, timeout=30_000)
    file = tmp_path / "other.nodrek.json"
    file.write_text('{"schema": "nodrek.case/1", "codes": [{"corner": "FR", "kind": "circuit"}]}')
    before = file.read_bytes()
    controller.open_case(file)
    controller.keeper.flush()
    assert file.read_bytes() == before
    assert controller.session.answer is None
    diagnosis = controller.session.bench.diagnosis
    assert diagnosis is not None
    assert diagnosis.corners == (Corner.FR,)
    assert not read_case(controller.keeper.path).findings


def test_the_wire_is_searched_and_holes_are_counted(controller: Controller, qtbot: QtBot) -> None:
    controller.window.view_chosen.emit(View.LOOM)
    qtbot.wait(30)
    press(controller, qtbot, "car, rear corner")
    assert "Measure from the control unit's plug" in texts(controller)
    qtbot.keyClicks(controller.window.loom._ohm, "0.3")
    press(controller, qtbot, "Enter the ohms")
    controller.window.loom.read.emit(6, None, True)
    qtbot.wait(30)
    press(controller, qtbot, "Hole at “lead over the arm” is sealed")
    loom = case_of(controller).looms[0]
    assert loom.readings[-1] == LoomReading(6, None, pierced=True, sealed=True)


def test_a_bad_case_file_is_one_sentence(controller: Controller, qtbot: QtBot, tmp_path: Path) -> None:
    bad = tmp_path / "bad.nodrek.json"
    bad.write_text('{"schema": "nodrek.case/1", "checks": [{"check": "wiggle", "result": "no"}]}')
    controller.window.open_wanted.emit(bad)
    qtbot.wait(30)
    assert "checks[0].result" in texts(controller)


def test_a_case_that_is_dropped_brings_its_log(controller: Controller, qtbot: QtBot, tmp_path: Path) -> None:
    shutil.copy(demo_log("island-van-lost-tooth"), tmp_path / "before.csv")
    file = tmp_path / "van.nodrek.json"
    file.write_text('{"schema": "nodrek.case/1", "logs": [{"path": "before.csv"}], "complaint": {"lamps": ["abs"]}}')
    controller.window.open_wanted.emit(file)
    qtbot.waitUntil(lambda: controller.session.answer is not None, timeout=30_000)
    qtbot.waitUntil(lambda: controller.session.bench.diagnosis is not None)
    assert controller.session.view is View.PROVE
    diagnosis = controller.session.bench.diagnosis
    assert diagnosis is not None
    assert diagnosis.of(Corner.RL)[0].cause is Cause.RING_DAMAGED
    controller.window.board.pressed.emit("lamps", "brake")
    controller.keeper.flush()
    assert [lamp.value for lamp in read_case(file).lamps] == ["abs", "brake"]


def test_the_ring_of_the_case_explains_its_log(controller: Controller, qtbot: QtBot, tmp_path: Path) -> None:
    """What the case says of the vehicle helps in the window as it does on the command line."""
    shutil.copy(demo_log("island-van-wrong-tyre"), tmp_path / "before.csv")
    file = tmp_path / "van.nodrek.json"
    for teeth, says in ((61, "1 tooth more than 61"), (None, "another number of teeth")):
        vehicle = {} if teeth is None else {"teeth": teeth}
        file.write_text(json.dumps({"schema": "nodrek.case/1", "vehicle": vehicle, "logs": [{"path": "before.csv"}]}))
        controller.window.open_wanted.emit(file)
        qtbot.waitUntil(lambda: controller.session.answer is not None, timeout=30_000)
        answer = controller.session.answer
        assert answer is not None
        assert answer.examination.vehicle.teeth == teeth
        controller.window.view_chosen.emit(View.RATIOS)
        qtbot.wait(30)
        assert says in texts(controller)


def test_the_command_line_tells_the_same(tmp_path: Path) -> None:
    shutil.copy(demo_log("island-van-lost-tooth"), tmp_path / "before.csv")
    case = {
        "schema": "nodrek.case/1",
        "codes": [{"text": "C0037-64"}],
        "logs": [{"path": "before.csv", "role": "before"}, {"path": "../outside.csv"}, {"path": "/etc/hostname"}],
        "checks": [{"check": "look_at_ring", "corner": "RL", "result": "gap_or_chip"}],
        "prices": {"sensor": 45, "ring": 25, "hour": 80},
    }
    file = tmp_path / "van.nodrek.json"
    file.write_text(json.dumps(case))
    command = [sys.executable, "-m", "nodrek", "diagnose", str(file)]
    done = subprocess.run([*command, "--json"], capture_output=True, text=True, check=True)
    told = json.loads(done.stdout)
    DiagnosisModel.model_validate(told)
    assert told["settled"] is True
    assert (told["causes"][0]["corner"], told["causes"][0]["cause"]) == ("RL", "ring_damaged")
    assert sum(c["probability"] for c in told["causes"]) == pytest.approx(1.0, abs=1e-4)
    assert any("log: ring damage" in b["evidence"] for b in told["causes"][0]["because"])
    assert sum("outside the case's folder" in w for w in told["warnings"]) == 2
    assert {p["name"] for p in told["policies"]} == {"proof first", "sensor first"}
    assert told["repair"][0]["lasting"] is True
    words = subprocess.run(command, capture_output=True, text=True, check=True).stdout
    assert "Settled." in words
    file.write_text('{"schema": "nodrek.case/1", "checks": [{"check": "wiggle", "result": "x"}]}')
    refused = subprocess.run(command, capture_output=True, text=True, check=False)
    assert (refused.returncode, refused.stdout) == (2, "")
    assert "checks[0].result" in refused.stderr
    assert refused.stderr.count("\n") == 1
