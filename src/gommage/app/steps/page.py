"""What the pages of all steps share."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from PySide6.QtWidgets import QMenu, QVBoxLayout, QWidget

from gommage.app.session import Session
from gommage.app.work import Work
from gommage.core.document import CleanPlate, Fix, Shot, Surface
from gommage.core.engine import Advice, State, Step

__all__ = ["NEXT", "Advised", "InHand", "Page", "next_step"]

NEXT = {Step.FOLLOW: Step.COVER, Step.COVER: Step.FILL, Step.FILL: Step.MATCH, Step.MATCH: Step.CHECK}
"""Which step comes after which."""


@dataclass(frozen=True, slots=True)
class Advised:
    """What a page advises: a sentence, and a button with what it does (the name of an action, or a call)."""

    words: str = ""
    button: str = ""
    mend: str | Callable[[], object] = ""
    is_urgent: bool = True


@dataclass(frozen=True, slots=True)
class InHand:
    """What is in hand, as it is shown. Compared by identity of its parts: what is the same need not be shown anew."""

    shot: Shot
    surface: Surface | None
    fix: Fix | None
    plate: CleanPlate | None

    def parts(self) -> tuple[Any, ...]:
        """Return the parts."""
        return self.shot, self.surface, self.fix, self.plate


class Page(QWidget):
    """What one step needs. Subclasses build rows and show state; they report intents to the session.

    A page is asked to show what is in hand, and says what it advises, whenever one of the values that it named in
    `watched` is another object than before.
    """

    def __init__(self, session: Session, work: Work) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.session, self.work = session, work
        self._seen: tuple[Any, ...] = ()
        self._advised = Advised()
        self.box = QVBoxLayout(self)
        self.box.setContentsMargins(4, 4, 4, 4)
        self.box.setSpacing(6)
        self.build()
        self.box.addStretch()

    def build(self) -> None:
        """Add the page's rows."""

    def watched(self, hand: InHand) -> tuple[Any, ...]:
        """Return everything that the page shows."""
        desk = self.session.desk
        told = desk.proposed, desk.proposed_why
        return (*hand.parts(), desk.frame, desk.part_id, self.session.summary, self.work.is_busy, *told)

    def refresh(self, hand: InHand) -> Advised:
        """Show what is in hand, if it is something else than before; returns what the page advises."""
        seen = self.watched(hand)
        if not _are_same(seen, self._seen):
            self._seen = seen
            self.show_hand(hand)
            desk = self.session.desk
            words = f"{desk.proposed_why} J shows the next, Escape leaves it."
            self._advised = (
                self.advise(hand)
                if desk.proposed is None
                else Advised(words, "Fill it so", "take_fill", is_urgent=False)
            )
        return self._advised

    def show_hand(self, hand: InHand) -> None:
        """Show what is in hand."""

    def advise(self, hand: InHand) -> Advised:
        """Return what the page advises."""
        return Advised()

    def state_of(self, fix: Fix, step: Step) -> Advice:
        """Return how far a step of a fix is, as far as that has been found out."""
        return self.session.summary.steps.get(fix.id, {}).get(step, Advice(State.FINE))

    def pop_up(self, button: QWidget, names: tuple[str, ...]) -> None:
        """Show some of the main window's actions under a button."""
        menu = QMenu(self)
        menu.setObjectName("ways_menu")
        menu.addActions([self.window().actions_by_id[name] for name in names])  # type: ignore[attr-defined]
        menu.aboutToHide.connect(menu.deleteLater)
        menu.popup(button.mapToGlobal(button.rect().bottomLeft()))

    def call(self, name: str) -> None:
        """Do one of the main window's actions."""
        window = self.window()
        window.call(name)  # type: ignore[attr-defined]


def _are_same(seen: tuple[Any, ...], before: tuple[Any, ...]) -> bool:
    """Return whether values are the same: records by identity, which costs nothing, plain ones by value."""
    return len(seen) == len(before) and all(
        one is other or (isinstance(one, int | float | str | tuple) and one == other)
        for one, other in zip(seen, before, strict=True)
    )


def next_step(step: Step, words: str = "") -> Advised:
    """Return the advice to go on to the step that follows."""
    following = NEXT[step]
    return Advised(words, f"Go to {following}", f"step_{following.lower()}", is_urgent=False)
