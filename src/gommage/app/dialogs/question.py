"""A question with a few answers, each a button that says what it does."""

from __future__ import annotations

from functools import partial

from PySide6.QtWidgets import QDialog, QHBoxLayout, QLabel, QVBoxLayout, QWidget

from gommage.app.look.controls import push_button

__all__ = ["QuestionDialog", "ask"]


class QuestionDialog(QDialog):
    """Ask; the first answer is the one that Return gives, the last one is given by Escape.

    Attributes
    ----------
    answer : str
        The words of the button that was pressed.
    """

    def __init__(self, parent: QWidget | None, title: str, words: str, *answers: str) -> None:
        super().__init__(parent)
        self.setWindowTitle(title)
        self.setMinimumWidth(420)
        self.answer = answers[-1]
        label = QLabel(words)
        label.setWordWrap(True)
        label.setAccessibleName("Question")
        row = QHBoxLayout()
        row.addStretch()
        for index, one in enumerate(answers):
            button = push_button(one, partial(self.give, one), primary=index == 0)
            button.setDefault(index == 0)
            button.setAutoDefault(index == 0)
            row.addWidget(button)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 16, 16, 12)
        layout.setSpacing(16)
        layout.addWidget(label)
        layout.addLayout(row)

    def give(self, answer: str) -> None:
        """Answer, as a button does."""
        self.answer = answer
        self.accept()


def ask(parent: QWidget, title: str, words: str, *answers: str) -> str:
    """Ask and return the answer; see `QuestionDialog`."""
    dialog = QuestionDialog(parent, title, words, *answers)
    dialog.exec()
    answer = dialog.answer
    dialog.deleteLater()
    return answer
