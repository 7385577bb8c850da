"""The one loop: intent → session → (job) → session → screen."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

from PySide6.QtCore import QObject, QTimer
from PySide6.QtWidgets import QApplication

from nodrek.demo import DEMOS, demo_log
from nodrek.desktop.state import session as intents
from nodrek.desktop.state.mapping import present_mapping
from nodrek.desktop.state.present import Units, present
from nodrek.desktop.state.report import answer_lines
from nodrek.desktop.state.session import Help, Remedy, Session
from nodrek.desktop.views.runner import Runner
from nodrek.desktop.views.theme import LOOKS, apply_look
from nodrek.desktop.views.window import MainWindow
from nodrek.errors import NeedsDatabase, NoWheelSpeeds, UnclearCorners
from nodrek.io.settings import load_settings, save_settings, with_recent
from nodrek.jobs.columns import Columns, look_at_columns


class Controller(QObject):
    """Owns the session, the window and the runner."""

    def __init__(self, app: QApplication, settings_path: Path) -> None:
        super().__init__()
        self._app = app
        self._settings_path = settings_path
        self.settings = load_settings(settings_path)
        self.session = Session()
        # before the first widget, so that each is made with the shipped type
        apply_look(app, LOOKS[self.settings.look])
        self.window = MainWindow(DEMOS)
        self.runner = Runner(_job)
        self._pending = QTimer(self)
        self._pending.setSingleShot(True)
        self._pending.timeout.connect(self._show)
        self._connect()
        self._show()

    def _connect(self) -> None:
        window, runner = self.window, self.runner
        window.open_wanted.connect(self.open)
        window.demo_wanted.connect(lambda name: self.open(demo_log(name)))
        window.corner_chosen.connect(lambda corner: self._do(intents.choose_corner, corner))
        window.view_chosen.connect(lambda view: self._do(intents.choose_view, view))
        window.look_chosen.connect(self.choose_look)
        window.unit_chosen.connect(self.choose_unit)
        window.cancel_wanted.connect(self.cancel)
        window.copy_wanted.connect(self.copy)
        window.closing.connect(self._close)
        drive = window.drive
        drive.window_wanted.connect(lambda a, b: self._do(intents.look_at, a, b))
        drive.whole_wanted.connect(lambda: self._do(intents.show_all))
        drive.back_wanted.connect(lambda: self._do(intents.go_back))
        drive.limit_wanted.connect(self.limit_to_window)
        drive.unlimit_wanted.connect(self.unlimit)
        window.turns.place_pressed.connect(lambda turn, angle: self._do(intents.mark_angle, turn, angle))
        runner.progressed.connect(lambda r, share, doing, since: self._do(intents.progress, r, share, doing, since))
        runner.finished.connect(self._finished)
        runner.failed.connect(lambda r, error, sentence: self._do(intents.fail, r, sentence, _remedy(error)))
        window.answer.remedy_wanted.connect(self.offer_remedy)
        window.columns_wanted.connect(self.ask_for_columns)

    def open(self, path: Path, part: tuple[float, float] | None = None, given: Help | None = None) -> None:
        """Analyze a log; what is on screen stays until the answer is there."""
        self.session = intents.begin(self.session, Path(path), part, given)
        self._show()
        self.runner.start(self.session.revision, Order(Path(path), part, self.session.help))

    def offer_remedy(self) -> None:
        """What would let a refused log be read: its columns named, or its database given."""
        if self.session.remedy is Remedy.DATABASE:
            paths = self.window.ask_for_databases()
            if paths and self.session.path is not None:
                self.open(self.session.path, given=replace(self.session.help, databases=paths))
        else:
            self.ask_for_columns()

    def ask_for_columns(self) -> None:
        """Let a person say which column is which corner, and analyze again."""
        path = self.session.path
        if path is None:
            return
        self.session = intents.begin_look(self.session)
        self._show()
        self.runner.start(self.session.revision, Look(path, self.session.help))

    def _take_mapping(self, columns: Columns) -> None:
        screen = present_mapping(columns, self.session.help.reference)
        mapping, reference = self.window.ask_for_mapping(screen, LOOKS[self.settings.look])
        if mapping:
            self.open(columns.path, given=replace(self.session.help, mapping=mapping, reference=reference))

    def limit_to_window(self) -> None:
        answer, window = self.session.answer, self.session.window
        if answer is not None and window is not None:
            offset = self.session.part[0] if self.session.part else 0.0
            part = (offset + window[0], offset + window[1])
            self.open(answer.source.path, part, self.session.help)

    def unlimit(self) -> None:
        if self.session.answer is not None:
            self.open(self.session.answer.source.path, None, self.session.help)

    def cancel(self) -> None:
        if self.session.busy is not None:
            self.runner.cancel()
            self._do(intents.cancel)

    def choose_look(self, name: str) -> None:
        self.settings = replace(self.settings, look=name)
        apply_look(self._app, LOOKS[name])
        self._remember()
        self._show()

    def choose_unit(self, unit: str) -> None:
        self.settings = replace(self.settings, speed_unit=unit)
        self._remember()
        self._show()

    def copy(self) -> None:
        if self.session.answer is not None:
            self.window.copy_text("\n".join(answer_lines(self.session.answer)))

    def _finished(self, revision: int, answer: object) -> None:
        if isinstance(answer, Columns):
            stale = revision != self.session.revision
            self._do(intents.looked, revision)
            if not stale:
                self._take_mapping(answer)
            return
        before = self.session
        self._do(intents.finish, revision, answer)
        if self.session is not before and self.session.answer is not None:
            path = self.session.answer.source.path
            if path not in [demo_log(name) for name, _ in DEMOS]:
                self.settings = with_recent(self.settings, path.absolute())
                self._remember()
                self._show()

    def _do(self, intent: Callable[..., Session], *arguments: object) -> None:
        changed = intent(self.session, *arguments)
        if changed is not self.session:
            self.session = changed
            # many intents of one moment (a drag, progress of a job) are shown once
            if not self._pending.isActive():
                self._pending.start(0)

    def _show(self) -> None:
        units = Units(self.settings.speed_unit)
        self.window.show_screen(present(self.session, units), LOOKS[self.settings.look])
        self.window.show_recent(tuple(Path(p) for p in self.settings.recent))
        self.window.check(self.settings.look, self.settings.speed_unit)

    def _remember(self) -> None:
        save_settings(self._settings_path, self.settings)

    def _close(self) -> None:
        self.runner.cancel()
        self.runner.wait(2.0)


@dataclass(frozen=True)
class Order:
    """What the job is to do."""

    path: Path
    part: tuple[float, float] | None
    given: Help


@dataclass(frozen=True)
class Look:
    """The job is only to look at the columns."""

    path: Path
    given: Help


def _remedy(error: object) -> Remedy | None:
    """What a person could give so that this error does not come again."""
    if isinstance(error, NeedsDatabase):
        return Remedy.DATABASE
    return Remedy.COLUMNS if isinstance(error, (NoWheelSpeeds, UnclearCorners)) else None


def _job(order: object, progress: Callable[[float, str], None]) -> object:
    from nodrek.jobs.analyze import analyze_file

    if isinstance(order, Look):
        progress(0.1, "Looking at the columns")
        return look_at_columns(order.path, order.given.databases)
    assert isinstance(order, Order)
    start, stop = order.part or (None, None)
    return analyze_file(
        order.path,
        mapping=order.given.mapping,
        reference=order.given.reference,
        databases=order.given.databases,
        start=start,
        stop=stop,
        progress=progress,
    )
