"""The one loop: intent → session → (job) → session → screen."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from PySide6.QtCore import QObject, QTimer
from PySide6.QtWidgets import QApplication

from nodrek.core.diagnosis.code_text import read_codes
from nodrek.core.model import Corner
from nodrek.core.model.case import Case, Check, CheckKind, Code, LogRole, LoomReading
from nodrek.demo import DEMOS, demo_log
from nodrek.desktop.state import case as cases
from nodrek.desktop.state import session as intents
from nodrek.desktop.state.mapping import present_mapping
from nodrek.desktop.state.present import Units, present
from nodrek.desktop.state.proof import typed_check
from nodrek.desktop.state.report import answer_lines
from nodrek.desktop.state.screen import View
from nodrek.desktop.state.session import Help, Remedy, Session
from nodrek.desktop.views.runner import Runner
from nodrek.desktop.views.theme import LOOKS, apply_look
from nodrek.desktop.views.window import MainWindow
from nodrek.desktop.work import Look, Order, Sums, add_up, run
from nodrek.errors import NeedsDatabase, NodrekError, NoWheelSpeeds, UnclearCorners
from nodrek.io.keeper import Keeper
from nodrek.io.knowledge import trade_knowledge
from nodrek.io.settings import load_settings, save_settings, with_recent
from nodrek.jobs.columns import Columns
from nodrek.jobs.diagnose import weigh

SUMS_AFTER_MS = 350
CASE_ENDING = ".nodrek.json"


class Controller(QObject):
    """Owns the session, the window, the runners and the keeper of the open case."""

    _asked = 0
    _closed = False

    def __init__(self, app: QApplication, settings_path: Path) -> None:
        super().__init__()
        self._app = app
        self._settings_path = settings_path
        self.settings = load_settings(settings_path)
        self.session = Session()
        # before the first widget, so that each is made with the shipped type
        apply_look(app, LOOKS[self.settings.look])
        self.window = MainWindow(DEMOS)
        self.runner = Runner(run)
        self.costs = Runner(add_up)
        self.knowledge = trade_knowledge()
        self.keeper = Keeper(settings_path.with_name("open-case.nodrek.json"))
        self._sums = QTimer(self)
        self._sums.setSingleShot(True)
        self._sums.timeout.connect(self._add_up)
        self._pending = QTimer(self)
        self._pending.setSingleShot(True)
        self._pending.timeout.connect(self._show)
        self._connect()
        self._bring_back()
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
        self._connect_case()

    def _connect_case(self) -> None:
        window = self.window
        window.undo_wanted.connect(lambda: self._enter(intents.undo))
        window.redo_wanted.connect(lambda: self._enter(intents.redo))
        window.case_new_wanted.connect(lambda: self._take_case(Case(), None))
        window.case_open_wanted.connect(self.open_case)
        window.case_save_wanted.connect(self.save_case)
        board, loom = window.board, window.loom
        board.pressed.connect(lambda group, key: self._enter(intents.press, group, key))
        board.typed.connect(self.type_codes)
        board.number_typed.connect(lambda key, value: self._edit(cases.type_number, key, value))
        board.remove_wanted.connect(lambda key: self._edit(cases.remove_row, key))
        window.next.answered.connect(
            lambda kind, corner, word: self._enter(intents.answered, Check(kind, corner, word))
        )
        window.next.measured.connect(self.take_value)
        window.next.accepted.connect(self.accept_value)
        window.next.other_wanted.connect(lambda kind, corner: self._do(intents.choose_check, kind, corner))
        loom.wire_picked.connect(
            lambda name: self._edit(cases.pick_wire, self.session.corner, self.knowledge.wires[name])
        )
        loom.wire_described.connect(self.describe_wire)
        loom.read.connect(
            lambda after, ohm, pierced: self._edit(
                cases.read_wire, self.session.corner, LoomReading(after, ohm, pierced)
            )
        )
        loom.sealed.connect(lambda after: self._edit(cases.seal, self.session.corner, after))
        self.costs.finished.connect(self._summed)

    def _edit(self, change: Callable[..., Case], *arguments: object) -> None:
        """Another state of the case."""
        self._enter(lambda session: intents.enter(session, change(session.bench.case, *arguments)))

    def _enter(self, intent: Callable[..., Session], *arguments: object) -> None:
        """An intent that may change the case: what follows from it is worked out and it is kept."""
        before, order = self.session.bench.case, self.session.bench.own_order
        self._do(intent, *arguments)
        if self.session.bench.own_order != order:
            self._sums.start(SUMS_AFTER_MS)
        if self.session.bench.case is not before:
            self._weigh()
            self._keep()

    def _keep(self) -> None:
        """The case as it is now goes to disk, and to the person's own file where there is one."""
        self.keeper.keep(self._kept_case(self.keeper.path.parent))
        if self.session.bench.path is not None:
            self.keeper.keep_copy(self._kept_case(self.session.bench.path.parent), self.session.bench.path)

    def _take_case(self, case: Case, path: Path | None) -> None:
        """Another case comes on the bench, without the log of the one before; its file is not touched yet."""
        self.runner.cancel()
        self._do(intents.take_case, case, path)
        self._weigh()
        self.keeper.keep(case)

    def _weigh(self) -> None:
        """Odds and next check at once; what it costs a moment later."""
        self._asked += 1  # sums of another case or log that are still being worked out are stale now
        answer = self.session.answer
        analyses = [answer.analysis] if answer else []
        case = self.session.bench.case
        self._do(intents.diagnosed, case, weigh(case, analyses, self.knowledge, costs=False))
        self._sums.start(SUMS_AFTER_MS)

    def _add_up(self) -> None:
        self._asked += 1
        answer = self.session.answer
        self.costs.start(self._asked, Sums(self.session.bench, answer, self.knowledge))

    def _summed(self, asked: int, result: object) -> None:
        if asked == self._asked and isinstance(result, tuple):
            self._do(intents.diagnosed, *result)

    def take_value(self, kind: CheckKind, corner: Corner, value: float | None, mate: float | None) -> None:
        """A measured value: counted, or asked about where its unit looks wrong."""
        check, question = typed_check(kind, corner, value, mate, self.knowledge)
        if question:
            self._do(intents.ask, question, check)
        else:
            self._enter(intents.answered, check)

    def accept_value(self) -> None:
        """The person stands by a value that looked wrong: it counts."""
        question = self.session.bench.question
        if question is not None:
            self._enter(intents.answered, replace(question[1], confirmed=True))

    def type_codes(self, text: str) -> None:
        """Codes typed or pasted; one that no published numbering explains is kept for the chosen corner."""
        read = read_codes(text) or [Code(corner=self.session.corner, text=text.strip()[:400])]
        self._edit(cases.add_codes, tuple(read))

    def describe_wire(self, text: str) -> None:
        """A wire in the person's own words, for the chosen corner."""
        words = {key: kind.words for key, kind in self.knowledge.loom_kinds.items()}
        self._edit(cases.pick_wire, self.session.corner, cases.described_wire(text, words))

    def open_case(self, path: Path) -> None:
        """Put a case file on the bench; its first log is opened where it is at hand."""
        from nodrek.io.contract.case import read_case

        try:
            case = read_case(path)
        except NodrekError as error:
            self._do(intents.refuse_case, str(error))
            return
        self._take_case(case, path)
        log = next((entry for entry in case.logs if entry.role is LogRole.BEFORE), None)
        if log is not None:
            target = (path.parent / log.path).resolve()
            if target.is_relative_to(path.parent.resolve()) and target.is_file():
                self.open(target)
        self._do(intents.choose_view, View.PROVE)

    def save_case(self, path: Path) -> None:
        """Keep the case in a file of the person's choice from now on."""
        from nodrek.io.contract.case import write_case

        try:
            write_case(self._kept_case(path.parent), path)
        except NodrekError as error:
            self._do(intents.refuse_case, str(error))
            return
        self.session = intents.kept_in(self.session, path)
        self._show()

    def _kept_case(self, folder: Path) -> Case:
        """The case as it is written: a log beside it by name, another by what it showed."""
        answer = self.session.answer
        return cases.with_log(
            self.session.bench.case,
            folder,
            None if answer is None else answer.source.path,
            () if answer is None else answer.analysis.findings,
        )

    def _bring_back(self) -> None:
        """The case that was open when the program was left, however it was left."""
        try:
            case = self.keeper.bring_back()
        except NodrekError as error:
            self._do(intents.refuse_case, str(error))
            return
        if case is not None:
            self._do(intents.take_case, case, None)
            self._weigh()

    def open(self, path: Path, part: tuple[float, float] | None = None, given: Help | None = None) -> None:
        """Analyze a log, or put a case on the bench; what is on screen stays until the answer is there."""
        if Path(path).name.endswith(CASE_ENDING):
            self.open_case(Path(path))
            return
        self.session = intents.begin(self.session, Path(path), part, given)
        self._show()
        known = self.session.bench.case.vehicle
        self.runner.start(self.session.revision, Order(Path(path), part, self.session.help, known))

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
            self._weigh()
            if self.session.bench.is_open:
                self._keep()
            path = self.session.answer.source.path
            if path not in [demo_log(name) for name, _ in DEMOS]:
                self.settings = with_recent(self.settings, path.absolute())
                self._remember()
                self._show()

    def _do(self, intent: Callable[..., Session], *arguments: object) -> None:
        if self._closed:
            return
        changed = intent(self.session, *arguments)
        if changed is not self.session:
            self.session = changed
            # many intents of one moment (a drag, progress of a job) are shown once
            if not self._pending.isActive():
                self._pending.start(0)

    def _show(self) -> None:
        if self._closed:
            return
        units = Units(self.settings.speed_unit)
        self.window.show_screen(present(self.session, units, self.knowledge), LOOKS[self.settings.look])
        self.window.show_recent(tuple(Path(p) for p in self.settings.recent))
        self.window.check(self.settings.look, self.settings.speed_unit)

    def _remember(self) -> None:
        save_settings(self._settings_path, self.settings)

    def _close(self) -> None:
        self._closed = True
        self._pending.stop()
        self._sums.stop()
        self.runner.cancel()
        self.costs.cancel()
        self.keeper.flush()
        self.runner.wait(2.0)


def _remedy(error: object) -> Remedy | None:
    """What a person could give so that this error does not come again."""
    if isinstance(error, NeedsDatabase):
        return Remedy.DATABASE
    return Remedy.COLUMNS if isinstance(error, (NoWheelSpeeds, UnclearCorners)) else None
