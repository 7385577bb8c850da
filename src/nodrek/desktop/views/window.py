"""The window: shows a `Screen`, sends intents, holds no judgement of its own."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QMimeData, Qt, Signal
from PySide6.QtGui import (
    QAction,
    QActionGroup,
    QCloseEvent,
    QDragEnterEvent,
    QDropEvent,
    QGuiApplication,
    QKeySequence,
    QResizeEvent,
    QShortcut,
)
from PySide6.QtWidgets import (
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from nodrek.core.model import Corner
from nodrek.desktop.state.mapping import MappingScreen
from nodrek.desktop.state.screen import FIRST_VIEW, ON_LOG, PLACE_OF, Place, Screen, View
from nodrek.desktop.views.answer import AnswerPanel, BusyPanel, StationButton
from nodrek.desktop.views.board import BoardView
from nodrek.desktop.views.drive import DriveView
from nodrek.desktop.views.invite import InviteView
from nodrek.desktop.views.loom import LoomView
from nodrek.desktop.views.mapping import MappingDialog
from nodrek.desktop.views.next import NextPanel
from nodrek.desktop.views.plan import PlanPanel
from nodrek.desktop.views.ratios import RatiosView
from nodrek.desktop.views.reasons import ReasonsView
from nodrek.desktop.views.theme import STEP, Look, Size, font
from nodrek.desktop.views.turns import TurnsView
from nodrek.desktop.views.waking import WakingView
from nodrek.desktop.views.wrapped import whole_units

LEAST_VIEW = 340
"""Pixels of height under which no view can be read."""
NARROW = 1100
"""Pixels of width under which Next folds under the plan."""
VIEW_NAMES = {
    View.COMPLAINT: "Complaint",
    View.CODES: "Codes",
    View.DRIVE: "Drive",
    View.TURNS: "Turns",
    View.RATIOS: "Ratios",
    View.WAKING: "Wake-up",
    View.PROVE: "Access, costs, checks done",
    View.REASONS: "Reasons",
    View.LOOM: "Loom",
}
VIEW_KEYS = {
    View.COMPLAINT: "C",
    View.CODES: "O",
    View.DRIVE: "D",
    View.TURNS: "T",
    View.RATIOS: "R",
    View.WAKING: "U",
    View.PROVE: "P",
    View.REASONS: "W",
    View.LOOM: "L",
}


class MainWindow(QMainWindow):
    """Intents go out as signals, screens come in through `show_screen`."""

    open_wanted = Signal(object)
    demo_wanted = Signal(str)
    corner_chosen = Signal(object)
    view_chosen = Signal(object)
    look_chosen = Signal(str)
    unit_chosen = Signal(str)
    cancel_wanted = Signal()
    copy_wanted = Signal()
    columns_wanted = Signal()
    undo_wanted = Signal()
    redo_wanted = Signal()
    case_open_wanted = Signal(object)
    case_save_wanted = Signal(object)
    case_new_wanted = Signal()
    closing = Signal()

    def __init__(self, demos: tuple[tuple[str, str], ...]) -> None:
        super().__init__()
        self._look: Look | None = None
        self._last: Screen | None = None
        self.setAcceptDrops(True)
        self.setMinimumSize(820, 500)
        self.resize(1280, 800)
        self.plan = PlanPanel()
        self.plan.plan.corner_chosen.connect(self.corner_chosen)
        self.answer, self.busy = AnswerPanel(), BusyPanel()
        self.busy.cancelled.connect(self.cancel_wanted)
        self.invite = InviteView(demos)
        self.invite.open_wanted.connect(self.ask_for_log)
        self.invite.demo_wanted.connect(self.demo_wanted)
        self.drive, self.turns, self.ratios, self.waking = DriveView(), TurnsView(), RatiosView(), WakingView()
        self._views: dict[View, QWidget] = {
            View.DRIVE: self.drive,
            View.TURNS: self.turns,
            View.RATIOS: self.ratios,
            View.WAKING: self.waking,
        }
        self.board, self.reasons, self.loom, self.next = BoardView(), ReasonsView(), LoomView(), NextPanel()
        self.stations = {place: StationButton() for place in Place}
        for place, station in self.stations.items():
            station.clicked.connect(lambda _=False, view=FIRST_VIEW[place]: self.view_chosen.emit(view))
        self.view_buttons = {view: QPushButton(VIEW_NAMES[view]) for view in View}
        self._notes = QLabel()
        self._notes.setWordWrap(True)
        self._notes.setFont(font(Size.SMALL))
        self._notes.setProperty("quiet", True)
        self._build()
        self._build_menus(demos)

    def _build(self) -> None:
        job_line = QHBoxLayout()
        job_line.setSpacing(STEP)
        for button in self.stations.values():
            job_line.addWidget(button)
        job_line.addStretch(1)
        opener = QPushButton("Open a log…")
        opener.clicked.connect(self.ask_for_log)
        job_line.addWidget(opener)
        self._switch = QHBoxLayout()
        for view, button in self.view_buttons.items():
            button.setCheckable(True)
            button.setMinimumWidth(110)
            button.setToolTip(f"{VIEW_NAMES[view]} ({VIEW_KEYS[view]})")
            button.clicked.connect(lambda _=False, chosen=view: self.view_chosen.emit(chosen))
            self._switch.addWidget(button)
        self._switch.addStretch(1)
        stage = QVBoxLayout()
        stage.setSpacing(STEP)
        stage.addWidget(self.busy)
        stage.addWidget(self.answer)
        stage.addLayout(self._switch)
        stage.addWidget(self.invite, 1)
        for widget in self._views.values():
            widget.setMinimumHeight(LEAST_VIEW)
            # takes what is left; its own wish must not make the stage scroll
            widget.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Ignored)
            stage.addWidget(widget, 1)
        for page in (self.board, self.reasons, self.loom):
            stage.addWidget(page)
        stage.addWidget(self._notes)
        # takes the room where no view does, so that a sentence is not stretched over it
        stage.addStretch(0)
        line = QFrame()
        line.setProperty("hairline", True)
        line.setFixedHeight(1)
        # on a low screen, or a large scale, the stage scrolls: nothing is cut off
        inside = QWidget()
        stage.setContentsMargins(0, 0, STEP, 0)
        inside.setLayout(stage)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(inside)
        body = QHBoxLayout()
        body.setSpacing(STEP)
        self._left = QVBoxLayout()
        self._left.setSpacing(STEP)
        self._left.addWidget(self.plan)
        body.addLayout(self._left)
        body.addWidget(scroll, 1)
        body.addWidget(self.next)
        self._body = body
        whole = QWidget()
        layout = QVBoxLayout(whole)
        layout.setContentsMargins(STEP, 4, STEP, STEP)
        layout.setSpacing(STEP)
        layout.addLayout(job_line)
        layout.addWidget(line)
        layout.addLayout(body, 1)
        self.setCentralWidget(whole)

    def _build_menus(self, demos: tuple[tuple[str, str], ...]) -> None:
        file = self.menuBar().addMenu("&File")
        self._add(file, "&Open a log…", self.ask_for_log, QKeySequence.StandardKey.Open)
        self.recent_menu = file.addMenu("Open &recent")
        file.addSeparator()
        self._add(file, "&New case", self.case_new_wanted.emit, QKeySequence.StandardKey.New)
        self._add(file, "Open a c&ase…", self.ask_for_case, QKeySequence("Ctrl+Shift+A"))
        self._add(file, "&Save the case as…", self.ask_where_to_save, QKeySequence.StandardKey.Save)
        file.addSeparator()
        self.columns_action = self._add(
            file, "Columns and c&orners…", self.columns_wanted.emit, QKeySequence("Ctrl+Shift+O")
        )
        self.copy_action = self._add(file, "&Copy the answer", self.copy_wanted.emit, QKeySequence("Ctrl+Shift+C"))
        file.addSeparator()
        self._add(file, "&Quit", self.close, QKeySequence.StandardKey.Quit)
        edit = self.menuBar().addMenu("&Edit")
        self.undo_action = self._add(edit, "&Undo", self.undo_wanted.emit, QKeySequence.StandardKey.Undo)
        self.redo_action = self._add(edit, "&Redo", self.redo_wanted.emit, QKeySequence.StandardKey.Redo)
        view = self.menuBar().addMenu("&View")
        for chosen in View:
            self._add(
                view, VIEW_NAMES[chosen], lambda c=chosen: self.view_chosen.emit(c), QKeySequence(VIEW_KEYS[chosen])
            )
        view.addSeparator()
        for number, corner in enumerate(Corner, start=1):
            self._add(
                view, corner.words.capitalize(), lambda c=corner: self.corner_chosen.emit(c), QKeySequence(str(number))
            )
        view.addSeparator()
        self._group(view, (("bay", "Bay look (light)"), ("pit", "Pit look (dark)")), self.look_chosen)
        view.addSeparator()
        self._group(view, (("km/h", "Speeds in km/h"), ("mph", "Speeds in mph")), self.unit_chosen)
        demo = self.menuBar().addMenu("&Demo")
        for name, words in demos:
            self._add(demo, words, lambda n=name: self.demo_wanted.emit(n), None)
        stop = QShortcut(QKeySequence("Ctrl+."), self)
        stop.activated.connect(self.cancel_wanted)

    def _add(
        self, menu: object, words: str, act: Callable[[], object], keys: QKeySequence | QKeySequence.StandardKey | None
    ) -> QAction:
        action = QAction(words, self)
        action.triggered.connect(lambda _=False: act())
        if keys is not None:
            action.setShortcut(keys)
        menu.addAction(action)  # type: ignore[attr-defined]
        return action

    def _group(self, menu: object, choices: tuple[tuple[str, str], ...], signal: object) -> None:
        group = QActionGroup(self)
        for key, words in choices:
            action = self._add(menu, words, lambda k=key: signal.emit(k), None)  # type: ignore[attr-defined]
            action.setCheckable(True)
            action.setData(key)
            group.addAction(action)
        self._groups = [*getattr(self, "_groups", []), group]

    def check(self, *keys: str) -> None:
        """Tick the menu entries of what is in force."""
        for group in self._groups:
            for action in group.actions():
                action.setChecked(action.data() in keys)

    def show_recent(self, paths: tuple[Path, ...]) -> None:
        self.recent_menu.clear()
        self.recent_menu.setEnabled(bool(paths))
        for path in paths:
            self._add(self.recent_menu, str(path), lambda p=path: self.open_wanted.emit(p), None)

    def show_screen(self, screen: Screen, look: Look) -> None:
        """Show everything; parts that did not change are left alone."""
        last, same_look = self._last, look is self._look
        self._last, self._look = screen, look
        self.setWindowTitle(screen.title)
        if last is None or not same_look or last.plan != screen.plan:
            self.plan.show_plan(screen.plan, look)
        if last is None or not same_look or last.stations != screen.stations:
            for station in screen.stations:
                self.stations[station.place].show_station(station, look)
        self.busy.setVisible(screen.busy is not None)
        if screen.busy is not None:
            self.busy.show_busy(screen.busy)
        self.answer.setVisible(screen.answer is not None)
        if screen.answer is not None and (last is None or not same_look or last.answer != screen.answer):
            self.answer.show_answer(screen.answer, look)
        self.invite.setVisible(screen.invite)
        shown = {
            View.DRIVE: screen.drive,
            View.TURNS: screen.turns,
            View.RATIOS: screen.ratios,
            View.WAKING: screen.waking,
        }
        has_result = any(part is not None for part in shown.values())
        for view, button in self.view_buttons.items():
            beside = has_result if view in ON_LOG else screen.place is Place.PROVE and PLACE_OF[view] is Place.PROVE
            button.setVisible(beside)
            button.setChecked(view is screen.view)
        self.board.setVisible(screen.board is not None)
        if screen.board is not None:
            self.board.show_board(screen.board, look)
        self.reasons.setVisible(screen.reasons is not None)
        if screen.reasons is not None:
            self.reasons.show_reasons(screen.reasons, look)
        self.loom.setVisible(screen.loom is not None)
        if screen.loom is not None:
            self.loom.show_loom(screen.loom, look)
        self.next.setVisible(screen.next is not None)
        if screen.next is not None:
            self.next.show_next(screen.next, look)
        for view, widget in self._views.items():
            widget.setVisible(view is screen.view and shown[view] is not None)
        if screen.drive is not None:
            self.drive.show_drive(screen.drive, look)
        if screen.turns is not None:
            self.turns.show_turns(screen.turns, look)
        if screen.ratios is not None:
            self.ratios.show_ratios(screen.ratios, look)
        if screen.waking is not None:
            self.waking.show_waking(screen.waking, look)
        self._notes.setText(whole_units("\n".join(f"Note: {note}" for note in screen.notes[:3])))
        self._notes.setVisible(bool(screen.notes) and screen.board is None)
        self.undo_action.setEnabled(screen.can_undo)
        self.redo_action.setEnabled(screen.can_redo)
        self.copy_action.setEnabled(screen.can_copy)
        self.columns_action.setEnabled(screen.can_copy or bool(screen.answer and screen.answer.remedy))

    def ask_for_log(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Open a log of a drive", "", "All files (*)")
        if name:
            self.open_wanted.emit(Path(name))

    def ask_for_case(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "Open a case", "", "Cases (*.nodrek.json);;All files (*)")
        if name:
            self.case_open_wanted.emit(Path(name))

    def ask_where_to_save(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, "Save the case", "case.nodrek.json", "Cases (*.nodrek.json)")
        if name:
            self.case_save_wanted.emit(Path(name))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        narrow = self.width() < NARROW
        folded = self._left.indexOf(self.next) >= 0
        if narrow and not folded:
            self._body.removeWidget(self.next)
            self._left.addWidget(self.next, 1)
        elif not narrow and folded:
            self._left.removeWidget(self.next)
            self._body.addWidget(self.next)

    def ask_for_databases(self) -> tuple[Path, ...]:
        """Files of bus databases; empty where the person changed their mind."""
        kinds = "Bus databases (*.dbc *.arxml *.kcd *.sym);;All files (*)"
        names, _ = QFileDialog.getOpenFileNames(self, "Bus database of this vehicle", "", kinds)
        return tuple(Path(n) for n in names)

    def ask_for_mapping(self, screen: MappingScreen, look: Look) -> tuple[dict[Corner, str], str | None]:
        """Columns by corner and the independent speed; empty where the person changed their mind."""
        dialog = MappingDialog(screen, look, self)
        if dialog.exec() != MappingDialog.DialogCode.Accepted:
            return {}, None
        return dialog.mapping(), dialog.chosen_reference()

    def copy_text(self, text: str) -> None:
        QGuiApplication.clipboard().setText(text)

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if _dropped(event.mimeData()) is not None:
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        path = _dropped(event.mimeData())
        if path is not None:
            event.acceptProposedAction()
            self.open_wanted.emit(path)

    def closeEvent(self, event: QCloseEvent) -> None:
        self.closing.emit()
        super().closeEvent(event)


def _dropped(data: QMimeData) -> Path | None:
    """The first local file of what is dragged."""
    for url in data.urls():
        if url.isLocalFile():
            return Path(url.toLocalFile())
    return None
