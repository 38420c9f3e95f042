"""The right side: the five steps, below them what the step in hand needs, and at the foot what to do next."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QButtonGroup, QHBoxLayout, QScrollArea, QStackedWidget, QToolButton, QVBoxLayout, QWidget

from gommage.app.look.controls import AdviceBox
from gommage.app.session import Session
from gommage.app.steps.check import CheckPage
from gommage.app.steps.cover.page import CoverPage
from gommage.app.steps.fill.page import FillPage
from gommage.app.steps.follow.page import FollowPage
from gommage.app.steps.match import MatchPage
from gommage.app.steps.page import Advised, InHand, Page
from gommage.app.work import Work
from gommage.core.engine import Step

__all__ = ["StepPanel"]

PAGES: dict[Step, type[Page]] = {
    Step.FOLLOW: FollowPage,
    Step.COVER: CoverPage,
    Step.FILL: FillPage,
    Step.MATCH: MatchPage,
    Step.CHECK: CheckPage,
}


class StepPanel(QWidget):
    """The strip of steps, the page of the step in hand, and its advice."""

    step_chosen = Signal(object)

    def __init__(self, session: Session, work: Work) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.setFixedWidth(300)
        self._session = session
        self.pages: dict[Step, Page] = {step: page(session, work) for step, page in PAGES.items()}
        self.advice = AdviceBox()
        self._advised = Advised()
        self._buttons: dict[Step, QToolButton] = {}
        self._stack = QStackedWidget()
        for page in self.pages.values():
            self._stack.addWidget(_scrolling(page))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(4, 8, 8, 4)
        layout.addLayout(self._steps())
        layout.addWidget(self._stack, 1)
        layout.addWidget(self.advice)
        session.document_changed.connect(lambda old, new: self.refresh())
        session.desk_changed.connect(lambda old, new: self.refresh())
        session.summary_changed.connect(self.refresh)
        work.changed.connect(lambda running: self.refresh())

    def _steps(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(2)
        group = QButtonGroup(self)
        for number, step in enumerate(Step, 1):
            button = QToolButton()
            button.setText(step)
            button.setCheckable(True)
            button.setAccessibleName(f"Step {step}")
            button.setToolTip(f"{step} ({number})")
            button.setMinimumHeight(30)
            button.setMinimumWidth(54)
            button.clicked.connect(partial(self.step_chosen.emit, step))
            group.addButton(button)
            self._buttons[step] = button
            row.addWidget(button, 1)
        return row

    def page(self, step: Step) -> Page:
        """Return the page of a step."""
        return self.pages[step]

    def refresh(self) -> None:
        """Show the step in hand as the document and the desk have it."""
        desk, project = self._session.desk, self._session.shown
        shot = desk.shot(project)
        self._buttons[desk.step].setChecked(True)
        self._stack.setCurrentIndex(list(self.pages).index(desk.step))
        self._stack.setVisible(shot is not None)
        if shot is None:
            self._say(Advised())
            return
        hand = InHand(shot, desk.surface(project), desk.fix(project), desk.plate(project))
        self._say(self.pages[desk.step].refresh(hand))

    def _say(self, advised: Advised) -> None:
        if advised is self._advised:
            return
        self._advised = advised
        mend = advised.mend
        call = partial(self.pages[self._session.desk.step].call, mend) if isinstance(mend, str) else mend
        self.advice.say(advised.words, advised.button, call if mend else None, is_urgent=advised.is_urgent)


def _scrolling(page: Page) -> QScrollArea:
    """Return a page that scrolls by itself where the window is low."""
    scroll = QScrollArea()
    scroll.setWidget(page)
    scroll.setWidgetResizable(True)
    scroll.setFrameShape(QScrollArea.Shape.NoFrame)
    scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
    return scroll
